package drill

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/session"
)

// history is what led to a failure: it is kept only when a failed drill is run again to explain itself.
type history struct {
	changes []changed
	lines   []string // what happened, in its order
	names   map[int]string
}

// changed is a value that the server changed, and why.
type changed struct {
	tick   int64
	entity uint32
	kind   string // of the entity
	name   string // of the property
	value  string // the new one, as a drill would write it
	cause  string // a request with its sender, a handler or a timer
}

// maxHistory is how many changes and lines are kept; older ones are forgotten.
const maxHistory = 4000

// say adds a line. Of more than maxHistory lines the older half is dropped.
func (h *history) say(tick int64, format string, args ...any) {
	h.lines = append(h.lines, fmt.Sprintf("tick %-5d ", tick)+fmt.Sprintf(format, args...))
	if len(h.lines) > maxHistory {
		h.lines = slices.Delete(h.lines, 0, maxHistory/2)
	}
}

// words returns what a request was and what became of it.
func words(d *session.Decision) string {
	out := fmt.Sprintf("%s asks %s(%s): %s", d.Client.Name, d.Ask.Request, joined(d.Ask.Args), d.Outcome)
	if d.Reason != "" {
		out += fmt.Sprintf(" %q", d.Reason)
	}
	return out
}

// joined returns texts with commas between them.
func joined[T ~[]byte](list []T) string {
	parts := make([]string, len(list))
	for i, x := range list {
		parts[i] = string(x)
	}
	return strings.Join(parts, ", ")
}

// keep adds what a step of the session did.
//
// The cause of a change is the request that made it. For anything else the session does not say which
// body it was.
func (h *history) keep(step *session.Step) {
	causes := map[string]string{}
	for i := range step.Decisions {
		d := &step.Decisions[i]
		h.say(step.Tick, "%s", words(d))
		for _, c := range d.Changes {
			causes[fmt.Sprint(c.Entity, c.Property)] = words(d)
		}
	}
	for _, x := range step.Refused {
		h.say(
			step.Tick, "%s: %s of %s by %s: %s %q", "not done", x.Type, x.Property, x.Client.Name, x.Outcome, x.Reason,
		)
	}
	for _, t := range step.Events {
		if len(t.Clients) == 1 {
			h.say(step.Tick, "%s is told to 1 client", t.Event.Event)
			continue
		}
		h.say(step.Tick, "%s is told to %d clients", t.Event.Event, len(t.Clients))
	}
	for _, f := range step.Faults {
		h.say(step.Tick, "%s fails inside: %s (line %d of %s)", f.Of, f.Reason, f.Line, f.File)
	}
	for _, c := range step.Cuts {
		h.say(step.Tick, "%s is out: %s", h.names[c.Client], c.Reason)
	}
	if step.ServerState == nil {
		return
	}
	for _, s := range step.ServerState.Spawned {
		h.say(step.Tick, "%s #%d is there", s.Kind, s.Entity)
	}
	for _, n := range step.ServerState.Gone {
		h.say(step.Tick, "#%d is gone", n)
	}
	for _, u := range step.ServerState.Values {
		for _, f := range u.Fields {
			cause := causes[fmt.Sprint(u.Entity, f.Name)]
			if cause == "" {
				cause = "a timer, a handler, a client's own write or the drill"
			}
			h.changes = append(h.changes, changed{
				tick:   step.Tick,
				entity: u.Entity,
				kind:   u.Kind,
				name:   f.Name,
				value:  f.Type.Format(f.Value),
				cause:  cause,
			})
		}
	}
	if len(h.changes) > maxHistory {
		h.changes = slices.Delete(h.changes, 0, maxHistory/2)
	}
}

// last returns the newest changes of a property.
//
// They come oldest first.
func (h *history) last(entity uint32, property string, n int) (out []string) {
	for _, c := range slices.Backward(h.changes) {
		if c.entity == entity && c.name == property {
			out = append(out, fmt.Sprintf("tick %-5d %s.%s = %s by %s", c.tick, c.kind, c.name, c.value, c.cause))
			if len(out) == n {
				break
			}
		}
	}
	slices.Reverse(out)
	return out
}

// format returns a value of a type as text.
func format(t *contract.Type, v *contract.Value) string {
	if v == nil {
		return "–"
	}
	return t.Format(*v)
}
