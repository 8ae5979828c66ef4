package transcript

import "kamerad.example/core/contract"

// Kind returns the kind of a name, or nil.
func (t *Transcript) Kind(name string) *contract.Kind { return t.kind(name) }

// Literal writes a value as drills do.
func (t *Transcript) Literal(typ *contract.Type, v contract.Value) (string, bool) {
	return t.literal(typ, v)
}

// Name returns what a client is called in the drill.
func (t *Transcript) Name(client int) string { return t.names[client] }

// Lines returns the lines of the drill to be.
func (t *Transcript) Lines() (out []string) {
	for _, l := range t.lines {
		out = append(out, l.text)
	}
	return out
}
