// Package asyncapi writes the AsyncAPI 3.0 document of a contract: what the clients of its sessions and the server say
// to each other in the protocol's JSON form, with every value's type. It knows outlines alone, so that the document
// says nothing that clients may not know.
//
// The document is the server's: what it receives are the messages of clients, what it sends are hello, frames and bye.
package asyncapi

import (
	"encoding/json"
	"fmt"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// object is an object of JSON.
type object = map[string]any

// Protocol is the WebSocket sub-protocol that the document is about.
const Protocol = "kamerad.json.v2"

// bounds of numbers that clients give their messages, and of instants that they drew, as docs/protocol.md has them.
const (
	maxNumber = 1<<53 - 1
	maxDrawn  = 1 << 20
	maxName   = 24
	maxLog    = 500
	maxReason = 1000
)

// Document returns the document of an outline as JSON.
func Document(o *contract.Outline) ([]byte, error) {
	w := &writer{outline: o, messages: object{}, schemas: object{}}
	w.clientMessages()
	w.serverMessages()
	received, sent := w.operations()
	document := object{
		"asyncapi": "3.0.0",
		"info": object{
			"title":   o.Contract,
			"version": o.Fingerprint(),
			"description": "What clients of a session of " + o.Contract + " and its server say to each other, over a " +
				"WebSocket with the sub-protocol " + Protocol + ". The version is the outline's fingerprint.",
			"license": object{"name": "Apache-2.0"},
		},
		"defaultContentType": "application/json",
		"servers": object{
			"loopback": object{
				"host":        "127.0.0.1:7707",
				"protocol":    "ws",
				"description": "A service on the same machine; elsewhere it is wss.",
			},
		},
		"channels": object{
			"session": object{
				"address":     "/api/sessions/{id}/join",
				"description": "One client's connection to a session.",
				"parameters":  object{"id": object{"description": "The number of the session."}},
				"messages":    w.refs("#/components/messages/"),
				"bindings":    object{"ws": webSocket()},
			},
		},
		"operations": object{
			"receive": object{
				"action":   "receive",
				"summary":  "What the server takes of a client.",
				"channel":  object{"$ref": "#/channels/session"},
				"messages": received,
			},
			"send": object{
				"action":   "send",
				"summary":  "What the server sends a client.",
				"channel":  object{"$ref": "#/channels/session"},
				"messages": sent,
			},
		},
		"components": object{"messages": w.messages, "schemas": w.schemas},
	}
	raw, err := json.MarshalIndent(document, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("write the document of %s: %w", o.Contract, err)
	}
	return append(raw, '\n'), nil
}

// webSocket says how the connection is made.
func webSocket() object {
	return object{
		"method": "GET",
		"headers": object{
			"type":       "object",
			"required":   []string{"Sec-WebSocket-Protocol"},
			"properties": object{"Sec-WebSocket-Protocol": object{"const": Protocol}},
		},
	}
}

// writer writes the document of an outline.
type writer struct {
	outline  *contract.Outline
	messages object
	schemas  object
	received []string // the names of messages that the server receives
	sent     []string
}

// refs returns what stands for all messages.
func (w *writer) refs(prefix string) object {
	out := object{}
	for name := range w.messages {
		out[name] = object{"$ref": prefix + name}
	}
	return out
}

// operations returns the messages that the server receives, and those that it sends.
func (w *writer) operations() (received, sent []object) {
	list := func(names []string) (out []object) {
		for _, name := range names {
			out = append(out, object{"$ref": "#/channels/session/messages/" + name})
		}
		return out
	}
	return list(w.received), list(w.sent)
}

// key returns a name as the name of a component, which has no points.
func key(parts ...string) string {
	return strings.ReplaceAll(strings.Join(parts, "_"), ".", "_")
}

// message adds a message: an object whose member type says which it is.
func (w *writer) message(name, title, words string, typ wire.MessageType, required []string, members object) {
	members["type"] = object{"const": string(typ)}
	w.messages[name] = object{
		"name":    name,
		"title":   title,
		"summary": words,
		"payload": closed(append([]string{"type"}, required...), members),
	}
}

// open returns the schema of an object that may get more members than these.
func open(required []string, members object) object {
	out := object{"type": "object", "properties": members}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

// closed returns the schema of an object that has these members and no others.
func closed(required []string, members object) object {
	out := open(required, members)
	out["additionalProperties"] = false
	return out
}

func list(of any) object     { return object{"type": "array", "items": of} }
func ref(name string) object { return object{"$ref": "#/components/schemas/" + name} }

// between returns the schema of a whole number in a range.
func between(low, high int64) object {
	return object{"type": "integer", "minimum": low, "maximum": high}
}

func count() object  { return between(1, maxNumber) }
func tick() object   { return between(0, maxNumber) }
func entity() object { return between(0, 1<<32-1) }

// receive adds a message that the server receives.
func (w *writer) receive(name, title, words string, typ wire.MessageType, required []string, members object) {
	w.message(name, title, words, typ, required, members)
	w.received = append(w.received, name)
}

// clientMessages adds what clients send.
func (w *writer) clientMessages() {
	first := object{
		"name":    object{"type": "string", "minLength": 1, "maxLength": maxName},
		"role":    object{"enum": w.outline.Roles},
		"token":   object{"type": "string", "description": "Of the last hello, in place of a name and a role."},
		"ticket":  object{"type": "string", "description": "Who the player is, signed."},
		"seen":    tick(),
		"outline": object{"type": "string", "description": "The fingerprint that the client was made for."},
	}
	const joins = "The first message: a new client, or one that takes its seat again."
	seen := []string{"seen"}
	line := object{"text": object{"type": "string", "maxLength": maxLog}, "seen": tick()}
	w.receive("join", "Join", joins, wire.MessageJoin, nil, first)
	w.receive("ready", "Ready", "Lets events come.", wire.MessageReady, nil, object{})
	w.receive(
		"seen", "Seen", "Confirms the newest tick that was applied.", wire.MessageSeen, seen, object{"seen": tick()},
	)
	w.receive(
		"differs",
		"Differs",
		"Says that the copy has another digest.",
		wire.MessageDiffers,
		seen,
		object{"seen": tick()},
	)
	w.receive("log", "Log", "A line of the client's own log.", wire.MessageLog, []string{"text"}, line)
	w.receive("leave", "Leave", "Gives the seat up.", wire.MessageLeave, nil, object{})
	for i := range w.outline.Kinds {
		w.kindMessages(&w.outline.Kinds[i])
	}
}

// kindMessages adds what clients send about entities of a kind.
func (w *writer) kindMessages(k *contract.KindOutline) {
	with := func(more object) object {
		more["entity"] = entity()
		more["seen"] = tick()
		more["drawn"] = between(-maxDrawn, maxDrawn)
		return more
	}
	for _, r := range k.Requests {
		name := k.Name + "." + r.Name
		required := []string{"seq", "request", "args"}
		members := object{"seq": count(), "request": object{"const": name}, "args": w.arguments(r.Params)}
		w.receive(key("ask", name), name, "A request from "+r.From+".", wire.MessageAsk, required, with(members))
	}
	for _, p := range k.Properties {
		name := k.Name + "." + p.Name
		if p.LeaseMs > 0 {
			for _, typ := range []wire.MessageType{wire.MessagePress, wire.MessageRelease} {
				members := object{"property": object{"const": name}, "press": count()}
				w.receive(key(string(typ), name), name, "A hold.", typ, []string{"property", "press"}, with(members))
			}
			continue
		}
		if p.SetBy != "" {
			required := []string{"seq", "property", "value"}
			members := object{"seq": count(), "property": object{"const": name}, "value": w.value(p.Type, true)}
			w.receive(key("write", name), name, "A new value.", wire.MessageWrite, required, with(members))
		}
	}
}

// serverMessages adds what the server sends.
func (w *writer) serverMessages() {
	o := w.outline
	w.sent = []string{"hello", "frame", "bye"}
	client := closed([]string{"number", "name", "role"}, object{
		"number": between(0, 1<<31-1),
		"name":   object{"type": "string"},
		"role":   object{"enum": o.Roles},
	})
	w.schemas["client"] = client
	settings := object{}
	for _, s := range o.Settings {
		settings[s.Name] = w.value(s.Type, false)
	}
	hello := object{
		"type":        object{"const": string(wire.MessageHello)},
		"protocol":    object{"type": "string"},
		"revision":    between(1, 1<<31-1),
		"client":      ref("client"),
		"token":       object{"type": "string", "description": "Takes the seat again when the connection is lost."},
		"grace_ms":    object{"type": "integer", "description": "How long the seat waits then."},
		"received":    tick(),
		"fingerprint": object{"type": "string"},
		"outline":     object{"type": "object", "description": "As docs/outline.schema.json says."},
		"settings":    open(nil, settings),
	}
	w.messages["hello"] = object{
		"name":    "hello",
		"title":   "Hello",
		"summary": "Who the client is, and what it may know of the contract.",
		"payload": open([]string{"type", "protocol", "client", "token", "fingerprint"}, hello),
	}
	bye := object{
		"type":   object{"const": string(wire.MessageBye)},
		"reason": object{"type": "string"},
		"code":   object{"type": "string", "description": "Why it was not seated, or `sent`."},
		// of who is sent elsewhere
		"session":  count(),
		"contract": object{"type": "string"},
		"ticket":   object{"type": "string"},
	}
	w.messages["bye"] = object{
		"name":    "bye",
		"title":   "Bye",
		"summary": "The last message: why the seat is gone.",
		"payload": open([]string{"type", "reason"}, bye),
	}
	w.messages["frame"] = object{
		"name":    "frame",
		"title":   "Frame",
		"summary": "All that a tick changed for the client.",
		"payload": w.frame(),
	}
}

// frame returns the schema of a frame.
func (w *writer) frame() object {
	members := object{
		"type":     object{"const": string(wire.MessageFrame)},
		"tick":     tick(),
		"snapshot": object{"type": "boolean", "description": "Forget what you hold: this is all."},
		"state":    list(w.block()),
		"decisions": list(open([]string{"outcome"}, object{
			"seq":     count(),
			"press":   count(),
			"release": count(),
			"outcome": object{"type": "string"},
			"stage":   object{"type": "string"},
			"reason":  object{"type": "string", "maxLength": maxReason},
			"check":   object{"type": "integer", "minimum": -1},
			"reply":   w.replies(),
		})),
		"logs":    list(object{"type": "string"}),
		"digest":  between(0, 1<<32-1),
		"settled": tick(),
		"incarnation": open([]string{"number", "kept"}, object{
			"number": object{"type": "integer"},
			"kept":   object{"type": "integer"},
		}),
	}
	if events := w.events(); len(events) > 0 {
		members["events"] = list(object{"oneOf": events})
	}
	return open([]string{"type", "tick"}, members)
}

// replies returns the schema of what accepted requests may reply.
func (w *writer) replies() object {
	var any []object
	for _, k := range w.outline.Kinds {
		for _, r := range k.Requests {
			if r.Reply != nil {
				any = append(any, w.value(r.Reply, false))
			}
		}
	}
	if len(any) == 0 {
		return object{"description": "No request of this contract replies."}
	}
	return object{"anyOf": any}
}

// block returns the schema of a block of a frame's state.
func (w *writer) block() object {
	var spawned, changed []object
	for i := range w.outline.Kinds {
		k := &w.outline.Kinds[i]
		w.schemas[key("values", k.Name)] = w.values(k)
		values := ref(key("values", k.Name))
		spawned = append(spawned, open([]string{"entity", "kind", "owner"}, object{
			"entity": entity(),
			"kind":   object{"const": k.Name},
			"owner":  between(0, 1<<31-1),
			"values": values,
		}))
		var names []string
		for _, p := range k.Properties {
			names = append(names, p.Name)
		}
		change := object{
			"entity": entity(),
			"kind":   object{"const": k.Name},
			"values": values,
		}
		if len(names) > 0 {
			change["withdrawn"] = list(object{"enum": names})
		}
		changed = append(changed, open([]string{"entity", "kind"}, change))
	}
	members := object{
		"joined": list(ref("client")),
		"owned":  list(open([]string{"entity", "owner"}, object{"entity": entity(), "owner": between(0, 1<<31-1)})),
		"gone":   list(entity()),
		"left":   list(between(0, 1<<31-1)),
	}
	if len(spawned) > 0 {
		members["spawned"] = list(object{"oneOf": spawned})
		members["values"] = list(object{"oneOf": changed})
	}
	return open(nil, members)
}

// values returns the schema of the values that a client may have of an entity of a kind.
func (w *writer) values(k *contract.KindOutline) object {
	members := object{}
	for _, p := range k.Properties {
		value := w.value(p.Type, false)
		if p.Follows != "" {
			value = object{"anyOf": []object{value, w.motion(p.Type), w.attachment(p.Type)}}
		}
		value["description"] = "To " + p.To + "."
		members[p.Name] = value
	}
	return closed(nil, members)
}

// motion returns the schema of a property that follows its rate.
func (w *writer) motion(t *contract.Type) object {
	return closed([]string{"from", "rate", "at"}, object{
		"from": w.value(t, false),
		"rate": object{"description": "What it moves by a second."},
		"at":   object{"type": "integer", "description": "The tick."},
	})
}

// attachment returns the schema of a property that is where that of another entity is.
func (w *writer) attachment(t *contract.Type) object {
	return closed([]string{"attached"}, object{
		"attached": object{"type": "string"},
		"by":       object{"description": "How far beside it."},
		"is":       w.value(t, false),
	})
}

// events returns the schemas of all events.
func (w *writer) events() (all []object) {
	add := func(name string, params []contract.Param, ofEntity bool) {
		members := object{"event": object{"const": name}}
		required := []string{"event"}
		if ofEntity {
			members["entity"] = entity()
			required = append(required, "entity")
		}
		values := object{}
		for _, p := range params {
			values[p.Name] = w.value(p.Type, false)
		}
		members["values"] = closed(nil, values)
		w.schemas[key("event", name)] = open(required, members)
		all = append(all, ref(key("event", name)))
	}
	for _, k := range w.outline.Kinds {
		for _, e := range k.Events {
			add(k.Name+"."+e.Name, e.Params, true)
		}
	}
	for _, e := range w.outline.Events {
		add(e.Name, e.Params, false)
	}
	return all
}
