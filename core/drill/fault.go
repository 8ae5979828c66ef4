package drill

import (
	"fmt"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// faultPattern is which faults a line of a drill expects.
type faultPattern struct {
	handler string // as bodyNames has it, such as "on spawn of Diver"
	reason  string // that is part of the fault's; empty for any
}

// matches reports whether a fault is one of those that the line expects: by the body that failed, or by what had set it
// off.
func (x *faultPattern) matches(f *fault) bool {
	of := strings.TrimPrefix(strings.TrimPrefix(f.Of, "a "), "the ")
	of = strings.Replace(of, "write of ", "write ", 1)
	return (f.In == x.handler || of == x.handler) && strings.Contains(f.Reason, x.reason)
}

// String returns a fault as text, with its place in the contract, what it was about and why.
func (f *fault) String() string { return f.Words(f.about) }

// bodyNames returns what of a contract can fail inside, as faults name it.
//
// A name in this list may be expected, whether or not the body can fail: the list is for spelling
// mistakes.
func bodyNames(c *contract.Contract) (out []string) {
	add := func(name string, there bool) {
		if there {
			out = append(out, name)
		}
	}
	for _, h := range c.Handlers() {
		// Entities come and go with clients, with handlers of their own.
		add(h.Name, h.Body != nil || h.Name == "on join" || h.Name == "on leave")
	}
	for _, k := range c.Kinds {
		of := " of " + k.Name
		add("on start"+of, k.OnStart != nil)
		add("on spawn"+of, k.OnSpawn != nil)
		add("on tick"+of, k.OnTick != nil)
		add("on owner lost"+of, k.OnOwnerLost != nil)
		add("on owner leave"+of, k.OnOwnerLeave != nil)
		add("on despawn"+of, k.OnDespawn != nil)
		for i, b := range k.OnChange {
			add("on change "+k.Properties[i].Name+of, b != nil)
		}
		add("timer"+of, len(k.Timers) > 0)
		add("motion"+of, slices.ContainsFunc(k.Properties, func(p *contract.Property) bool { return p.Follows != nil }))
		for _, p := range k.Properties {
			add("hold "+p.Name+of, p.Hold != nil)
			add("write "+p.Name+of, p.Set != nil)
		}
		for _, r := range k.Requests {
			add("request "+r.Name+of, true)
		}
	}
	for _, a := range c.Actions {
		add("action "+a.Name+" of "+a.Kind.Name, true)
	}
	for _, f := range c.Fns {
		add("function "+f.Name, true)
	}
	return out
}

// expectFault checks a line that expects a fault.
//
// Every pattern of the drill also keeps a fault from ending the run before the line that expects it is
// reached.
func (k *checker) expectFault(n *syntax.DrillExpect) *faultPattern {
	names := bodyNames(k.Contract)
	if !slices.Contains(names, n.Handler.Text) {
		k.Fail(
			n.Handler.At, "unknown-name", fmt.Sprintf("the contract has no `%s`", n.Handler.Text),
			"one of "+strings.Join(names, ", "),
		)
		return nil
	}
	x := &faultPattern{handler: n.Handler.Text}
	if n.Text != nil {
		x.reason = n.Text.Value
	}
	k.faults = append(k.faults, x)
	return x
}

// holdFaults counts the faults that a line expects.
//
// It marks what it counts as expected: what no line counts makes the drill fail at its end.
func (x *expectation) holdFaults(r *run) error {
	count := 0
	var last *fault
	for _, f := range r.stage.faults {
		if x.fault.matches(f) {
			f.expected = true
			count++
			last = f
		}
	}
	told := ""
	if last != nil {
		told = "; the last one: " + last.String()
	}
	switch {
	case x.n.Count != nil && int64(count) != x.n.Count.Value:
		return &failing{
			message: fmt.Sprintf(
				"`%s` failed inside %d times, not %d%s", x.fault.handler, count, x.n.Count.Value, told,
			),
		}
	case x.n.Count == nil && count == 0:
		return &failing{message: fmt.Sprintf("`%s` did not fail inside", x.fault.handler)}
	}
	return nil
}
