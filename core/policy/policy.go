// Package policy holds contracts against the rules of a team: findings that are mistakes there, findings that no
// contract may accept, and what every contract has to say.
//
// A policy turns warnings into mistakes and adds mistakes of its own; what a contract means stays the same. It is
// immutable once it is read, and nil is the policy that asks nothing.
package policy

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"kamerad.example/core/contract"
	"kamerad.example/core/findings"
	"kamerad.example/core/syntax"
)

// MaxSize is the length of a policy at most, in bytes.
const MaxSize = 64 << 10

// Code is the code of a mistake that a policy adds.
const Code = "policy"

// Policy is what a team asks of its contracts. Read makes one.
type Policy struct {
	Mistakes    []string `json:"mistakes"`     // findings that are mistakes unless they are accepted with a reason
	NeverAccept []string `json:"never_accept"` // findings that are mistakes, and that no contract may accept
	Require     []string `json:"require"`      // names of Rules that hold without exception
}

// Rule is something that a policy can require.
type Rule struct {
	Name  string
	Title string
	check func(c *contract.Contract) []breach
}

// breach is a place where a rule does not hold.
type breach struct {
	at    syntax.Span
	wrong string
	right string
}

// Rules returns all rules, in the order of their names.
func Rules() []Rule {
	return []Rule{
		{"checks", "each request has a check", eachRequest(
			func(r *contract.Request) bool { return len(r.Checks) > 0 }, "has no check", "`check … else deny \"…\"`",
		)},
		{"limits", "each request has a limit or a pause", eachRequest(
			isLimited, "has neither limit nor pause", "`limit 5 per second`",
		)},
		{"open-limits", "each request that others than its owner may send has a limit or a pause", eachRequest(
			func(r *contract.Request) bool { return isLimited(r) || isOwners(r) },
			"may come from others than its owner, and has neither limit nor pause", "`limit 5 per second`",
		)},
		{"paces", "each property that clients set has a pace", eachWritten(
			func(s *contract.SetBy) bool { return s.Pace != nil }, "has no pace",
			"`pace distance(old, new) 8 per second`",
		)},
		{"strikes", "the contract says after how many strikes a client is expelled", hasStrikes},
		{"when", "each property that clients set has a rule", eachWritten(
			func(s *contract.SetBy) bool { return s.Rule != nil }, "has no rule", "`when …`",
		)},
	}
}

func isLimited(r *contract.Request) bool { return r.Limit != nil || r.Pause != nil }

// isOwners reports whether only the owner of its entity may send a request.
func isOwners(r *contract.Request) bool {
	return !slices.ContainsFunc(r.From, func(w contract.Who) bool { return !w.But && w.Sort != contract.ToOwner })
}

func eachRequest(holds func(*contract.Request) bool, wrong, right string) func(*contract.Contract) []breach {
	return func(c *contract.Contract) (out []breach) {
		for _, r := range c.Requests {
			if !holds(r) {
				out = append(out, breach{r.NameAt, fmt.Sprintf("`%s` %s", r.FullName(), wrong), "say " + right})
			}
		}
		return out
	}
}

func eachWritten(holds func(*contract.SetBy) bool, wrong, right string) func(*contract.Contract) []breach {
	return func(c *contract.Contract) (out []breach) {
		for _, k := range c.Kinds {
			for _, p := range k.Properties {
				if p.Set != nil && !holds(p.Set) {
					what := fmt.Sprintf("`%s.%s` is set by a client and %s", k.Name, p.Name, wrong)
					out = append(out, breach{p.NameAt, what, "say " + right})
				}
			}
		}
		return out
	}
}

func hasStrikes(c *contract.Contract) []breach {
	if c.Strikes > 0 {
		return nil
	}
	return []breach{{syntax.Span{End: 1}, "the contract does not say `strikes`", "`strikes 5 in 10s` below its name"}}
}

// Read reads a policy from its JSON. It refuses members, findings and rules that there are not, and names that stand
// twice.
func Read(raw []byte) (*Policy, error) {
	if len(raw) > MaxSize {
		return nil, fmt.Errorf("read a policy: it has %d bytes, and may have %d", len(raw), MaxSize)
	}
	p := &Policy{}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(p); err != nil {
		return nil, fmt.Errorf("read a policy: %w; it is an object with mistakes, never_accept and require", err)
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, fmt.Errorf("read a policy: something stands behind its object")
	}
	var known, rules []string
	for _, f := range findings.Findings() {
		known = append(known, f.Name)
	}
	for _, r := range Rules() {
		rules = append(rules, r.Name)
	}
	if err := among("finding", known, append(slices.Clone(p.Mistakes), p.NeverAccept...)); err != nil {
		return nil, err
	}
	return p, among("rule", rules, p.Require)
}

// among refuses a name that is not known, or that stands twice.
func among(what string, known, names []string) error {
	for i, name := range names {
		if !slices.Contains(known, name) {
			return fmt.Errorf(
				"read a policy: there is no %s %.60q; there are %s", what, name, strings.Join(known, ", "),
			)
		}
		if slices.Contains(names[:i], name) {
			return fmt.Errorf("read a policy: the %s %q stands twice", what, name)
		}
	}
	return nil
}

// Apply holds a contract that is right in itself, and its warnings, against the policy. It returns the problems that
// there are then, in the order of the lines, and whether there is a mistake among them.
func (p *Policy) Apply(c *contract.Contract, warnings syntax.Problems) (out syntax.Problems, isRefused bool) {
	if p == nil {
		return warnings, false
	}
	for _, w := range warnings {
		if slices.Contains(p.Mistakes, w.Code) || slices.Contains(p.NeverAccept, w.Code) {
			w.Warning = false
			isRefused = true
		}
		out = append(out, w)
	}
	add := func(at syntax.Span, wrong, right string) {
		out = append(out, c.Source.Problem(at, Code, wrong, right))
		isRefused = true
	}
	for _, a := range c.Accepts {
		if slices.Contains(p.NeverAccept, a.Finding.Text) {
			add(
				a.At, fmt.Sprintf("`%s` may not be accepted here: the policy says so", a.Finding.Text),
				"mend what the finding tells; `kamerad check --explain "+a.Finding.Text+"` shows how",
			)
		}
	}
	for _, r := range Rules() {
		if slices.Contains(p.Require, r.Name) {
			for _, b := range r.check(c) {
				add(b.at, b.wrong+"; the policy requires it ("+r.Name+")", b.right)
			}
		}
	}
	return out.Sort(), isRefused
}
