package session

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// outgoingEvent is an event on its way to clients. All seats that it goes to share one.
type outgoingEvent struct {
	rules.Told
	kind  int // index within the outline; -1 for an event of the contract itself
	index int // among the events of the kind, or of the contract; -1 when no client knows of it

	hasRefs          bool   // arguments hold refs, which mean something else to each client
	packedWithEntity []byte // for those who know the event's entity
	packedWithout    []byte // for those who do not
}

// queueEvent queues an event for the clients that are to have it. Who that is is decided now; what each of them knows
// of its entities, with the end of the tick.
func (s *Session) queueEvent(told rules.Told) {
	out := &outgoingEvent{Told: told, kind: -1}
	out.Values = slices.Clone(told.Values) // the machine uses its memory again
	out.Clients = nil
	out.kind, out.index = s.findEvent(told.Event)
	public := &wire.Event{Event: told.Event.FullName()}
	if told.Entity != nil {
		s.view.MarkNamedByEvent(told.Entity.ID)
		public.Entity = s.view.Number(told.Entity)
	}
	for i, p := range told.Event.Params {
		if p.Type.Has(contract.FormEntity) {
			out.hasRefs = true
			p.Type.Refs(told.Values[i], func(id int64) int64 {
				s.view.MarkNamedByEvent(world.ID(id))
				return 0
			})
		}
		if s.serverState != nil {
			value := s.serverState.PublicRefs(p.Type, told.Values[i])
			public.Fields = append(public.Fields, wire.Field{Name: p.Name, Type: p.Type, Value: value})
		}
	}
	sent := EventSent{Event: public, Clients: []int{}}
	isKnown := out.index >= 0 && (out.kind >= 0 || told.Event.Kind == nil)
	for _, t := range s.order {
		client := t.client.Number
		if !t.joined || !told.Everyone && !slices.Contains(told.Clients, client) {
			continue
		}
		sent.Clients = append(sent.Clients, client)
		if isKnown {
			t.newEvents = append(t.newEvents, out)
			t.hasMessages = true
		}
	}
	s.events = append(s.events, sent)
}

// findEvent returns where an event stands in the outline: the index of its kind, -1 for none, and its own.
func (s *Session) findEvent(event *contract.Event) (kind, index int) {
	outline := s.view.Layout().Outline
	events := outline.Events
	kind = -1
	if event.Kind != nil {
		isKind := func(k contract.KindOutline) bool { return k.Name == event.Kind.Name }
		kind = slices.IndexFunc(outline.Kinds, isKind)
		if kind >= 0 {
			events = outline.Kinds[kind].Events
		}
	}
	isEvent := func(x contract.EventOutline) bool { return x.Name == event.Name }
	return kind, slices.IndexFunc(events, isEvent)
}

// packEvent returns an event as one client may have it: refs to entities that it does not know are nothing, and a
// client that does not know the event's entity gets the event without it.
func (s *Session) packEvent(event *outgoingEvent, client int) []byte {
	number := uint32(0)
	if event.Entity != nil {
		number = s.view.KnownNumber(client, event.Entity.ID)
	}
	packed := &event.packedWithout
	if number != 0 {
		packed = &event.packedWithEntity
	}
	if *packed != nil && !event.hasRefs {
		return *packed
	}
	out := &wire.Event{Entity: number}
	for i, p := range event.Event.Params {
		v := event.Values[i]
		if event.hasRefs {
			v = s.view.RefsInFrame(client, p.Type, v)
		}
		out.Fields = append(out.Fields, wire.Field{Name: p.Name, Type: p.Type, Value: v})
	}
	*packed = wire.PackEvent(s.view.Layout().Outline, event.kind, event.index, out)
	return *packed
}
