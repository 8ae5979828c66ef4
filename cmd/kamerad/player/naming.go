package player

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kamerad.example/client"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
)

// A word is one part of a line that was typed. Text in quotes keeps its blanks; a quoted word is a text, whatever it
// looks like.
type word struct {
	text   string
	quoted bool
}

// split divides a line at its blanks. What is in quotes stays together, and so does what is in brackets or braces:
// a list or record as JSON.
func split(line string) (out []word, err error) {
	for rest := strings.TrimSpace(line); rest != ""; rest = strings.TrimSpace(rest) {
		var w word
		switch rest[0] {
		case '[', '{':
			d := json.NewDecoder(strings.NewReader(rest))
			var value json.RawMessage
			if err := d.Decode(&value); err != nil {
				return nil, fmt.Errorf("%.40q is no list or record: %w", rest, err)
			}
			w.text, rest = string(value), rest[d.InputOffset():]
		case '"':
			var text string
			d := json.NewDecoder(strings.NewReader(rest))
			if err := d.Decode(&text); err != nil {
				return nil, fmt.Errorf("%.40q is no text in quotes: %w", rest, err)
			}
			w = word{text, true}
			rest = rest[d.InputOffset():]
			if end := strings.IndexAny(rest, " \t"); end != 0 && rest != "" { // as in "Diver 3".Diver.use
				if end < 0 {
					end = len(rest)
				}
				w = word{text: w.text + rest[:end]}
				rest = rest[end:]
			}
		default:
			end := strings.IndexAny(rest, " \t")
			if end < 0 {
				end = len(rest)
			}
			w.text = rest[:end]
			rest = rest[end:]
		}
		out = append(out, w)
	}
	return out, nil
}

// typed returns the arguments of a command line as words: the shell has taken the quotes off.
func typed(args []string) (out []word) {
	for _, a := range args {
		out = append(out, word{text: a})
	}
	return out
}

// label returns the name that an entity has in the terminal: `Ana.Diver`, or `Rig[2]` for the second of those that the
// client holds. Find reads it back.
func label(held *replicate.Copy, t *replicate.Entity) string {
	name := NameOf(held.Clients, t)
	nth := 0
	alike := 0
	for _, x := range held.Entities() {
		if x.Kind == t.Kind && (t.Owner == 0 || x.Owner == t.Owner) {
			alike++
			if x == t {
				nth = alike
			}
		}
	}
	if alike < 2 {
		return name
	}
	return fmt.Sprintf("%s[%d]", name, nth)
}

// worded returns a value as text; an entity or a client by its name.
func worded(held *replicate.Copy, t *contract.Type, v contract.Value) string {
	switch {
	case t.Form == contract.FormEntity && held.Entity(uint32(v.Num)) != nil:
		return label(held, held.Entity(uint32(v.Num)))
	case t.Form == contract.FormClient && nameOfClient(held, int(v.Num)) != "":
		return terminal.Shown(nameOfClient(held, int(v.Num)))
	}
	return t.Format(v)
}

// find returns the entity that a name stands for, or 0: `#123`, `Rig`, `Rig[2]`, `Ana.Diver` or `Ana.Diver[2]`.
func find(held *replicate.Copy, name string) uint32 {
	if number, ok := strings.CutPrefix(name, "#"); ok {
		n, err := strconv.ParseUint(number, 10, 32)
		if err != nil {
			return 0
		}
		return uint32(n)
	}
	nth := 1
	if base, index, ok := strings.Cut(strings.TrimSuffix(name, "]"), "["); ok && strings.HasSuffix(name, "]") {
		n, err := strconv.Atoi(index)
		if err != nil || n < 1 {
			return 0
		}
		name = base
		nth = n
	}
	kind := name
	owner := ""
	if at := strings.LastIndexByte(name, '.'); at >= 0 {
		owner = name[:at]
		kind = name[at+1:]
	}
	for _, t := range held.Entities() {
		if t.Kind != kind || owner != "" && owner != nameOfClient(held, t.Owner) {
			continue
		}
		nth--
		if nth == 0 {
			return t.Number
		}
	}
	return 0
}

// nameOfClient returns a client's name, or nothing when there is no such client.
func nameOfClient(held *replicate.Copy, number int) string {
	for _, c := range held.Clients {
		if c.Number == number {
			return c.Name
		}
	}
	return ""
}

// addressed is what a line is sent to: a request, property or hold by its full name, and the entity, 0 for the client's
// own or the one of a shared kind.
type addressed struct {
	entity uint32
	name   string
}

// hasName reports whether a kind has a request or a property of a name, whichever is meant.
type hasName func(k *contract.KindOutline, name string) bool

// address reads `[ENTITY.]NAME` or `[Kind.]NAME` against what a client knows. has reports whether a kind has such a
// request or property. What the outline does not have is sent as it stands: the server has to refuse it.
func address(me *client.Client, text string, has hasName) (a addressed, err error) {
	o := me.Outline()
	at := strings.LastIndexByte(text, '.')
	if at < 0 {
		a.name = text
		for _, k := range o.Kinds {
			if has(&k, text) {
				a.name = k.Name + "." + text
			}
		}
		return a, nil
	}
	of := text[:at]
	name := text[at+1:]
	if !strings.ContainsAny(of, ".[#") { // a kind
		return addressed{0, text}, nil
	}
	me.Look(func(held *replicate.Copy) {
		a.entity = find(held, of)
		if a.entity == 0 {
			err = unknownEntity(held, of)
			return
		}
		kind := ""
		if t := held.Entity(a.entity); t != nil {
			kind = t.Kind
		} else if at := slices.IndexFunc(o.Kinds, func(k contract.KindOutline) bool { return has(&k, name) }); at >= 0 {
			kind = o.Kinds[at].Name // an entity that is not seen
		}
		a.name = kind + "." + name
	})
	return a, err
}

// unknownEntity returns the message for an entity that a client does not hold, with those that it holds.
func unknownEntity(held *replicate.Copy, name string) error {
	const most = 12
	var known []string
	for _, t := range held.Entities() {
		if len(known) == most {
			known = append(known, "…")
			break
		}
		known = append(known, label(held, t))
	}
	if len(known) == 0 {
		return fmt.Errorf("this client holds no %.60s, and no other entity either", name)
	}
	return fmt.Errorf("this client holds no %.60s; it holds %s", name, strings.Join(known, ", "))
}

// value turns a word into JSON for a value of a type. Where an entity or a client is wanted, a name does. What does not
// fit is sent as it stands, so that a forged request can be tried too.
func value(me *client.Client, t *contract.Type, w word) (json.RawMessage, error) {
	switch {
	case t == nil && w.quoted, t != nil && w.quoted && t.Form != contract.FormEntity && t.Form != contract.FormClient:
		return json.Marshal(w.text)
	case t == nil:
		return contract.RawWord(w.text), nil
	case t.Form != contract.FormEntity && t.Form != contract.FormClient:
		return t.Word(w.text), nil
	case w.text == "nothing":
		return json.RawMessage("null"), nil
	case json.Valid([]byte(w.text)):
		return json.RawMessage(w.text), nil
	}
	number := int64(0)
	err := errors.New("")
	me.Look(func(held *replicate.Copy) {
		if t.Form == contract.FormClient {
			number, err = clientCalled(held, w.text)
			return
		}
		number, err = entityCalled(held, t, w.text)
	})
	if err != nil {
		return nil, err
	}
	return json.RawMessage(strconv.FormatInt(number, 10)), nil
}

// clientCalled returns the number of the client that has a name.
func clientCalled(held *replicate.Copy, name string) (int64, error) {
	for _, c := range held.Clients {
		if c.Name == name {
			return int64(c.Number), nil
		}
	}
	return 0, fmt.Errorf(
		"no client is called %.60s; here are %s", name, strings.Join(terminal.ClientNames(held.Clients), ", "),
	)
}

// entityCalled finds the entity that a word stands for where a value of type t is wanted. The name of a client stands
// for the entity of its own that fits.
func entityCalled(held *replicate.Copy, t *contract.Type, name string) (int64, error) {
	if n := find(held, name); n != 0 {
		return int64(n), nil
	}
	for _, c := range held.Clients {
		if c.Name != name {
			continue
		}
		for _, kind := range t.Names {
			if own := held.OwnedBy(kind, c.Number); own != nil {
				return int64(own.Number), nil
			}
		}
	}
	return 0, unknownEntity(held, name)
}
