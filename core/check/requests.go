package check

import (
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
)

// request reads a request: who may send it, how often, its checks and its body.
func (c *builder) request(r *contract.Request, d *syntax.Request) {
	r.Params = c.params(d.Params, inMessage)
	for _, p := range r.Params {
		c.isSent(p.Type)
	}
	env := &env{
		checker: c.checker,
		kind:    r.Kind,
		request: r,
		pure:    true,
		still:   true,
	}
	env.params(d.Params, r.Params)
	r.From = []contract.Who{{Sort: contract.ToOwner}}
	if d.From != nil {
		// Who may send is decided before the arguments are looked at.
		scopes := env.scopes
		env.scopes = []map[string]*contract.Expr{{}}
		if who := env.who(d.From, "may send a request"); who != nil {
			r.From = who
		}
		env.scopes = scopes
	} else if r.Kind.Per < 0 && c.inPart == nil {
		c.later = append(c.later, func() {
			if !r.Kind.GivenAway {
				c.fail(
					d.Name.At, "never",
					fmt.Sprintf(
						"nobody can ever send `%s`: %s belongs to the server, and by default only the owner may ask",
						r.FullName(), r.Kind.Name,
					),
					"say who may: `from "+c.Contract.Roles[0]+"`; or `give` it to somebody",
				)
			}
		})
	}
	if d.Limit != nil {
		window := int64(1000)
		if d.Limit.Window != nil {
			window = d.Limit.Window.Value
		}
		if c.bounded(d.Limit.Count.At, "the limit", d.Limit.Count.Value, 1, contract.MaxLimit) {
			r.Limit = &contract.Limit{Count: int(d.Limit.Count.Value), Window: c.ticks(d.Limit.At, window), Ms: window}
		}
	}
	if d.Pause != nil {
		r.Pause = &contract.Pause{
			Ticks:  c.ticks(d.Pause.At, d.Pause.Window.Value),
			Ms:     d.Pause.Window.Value,
			Reason: d.Pause.Reason.Value,
		}
		c.reason(d.Pause.Reason)
	}
	if d.Reply != nil {
		r.Reply = c.typ(d.Reply, inMessage)
		if r.Reply != nil && r.Reply.Holder() {
			c.fail(
				d.Reply.At, "wrong-type", "a list or map cannot be a reply",
				"reply with one value, or let a property hold it",
			)
			r.Reply = nil
		}
		if r.Reply == nil {
			r.Reply = &contract.Type{} // what is replied is not told again
		}
	}
	r.Head = env.block(d.Head)
	env.pure = false
	env.still = false
	r.Body = env.block(d.Body)
	r.Locals = env.nums
	r.Memory = env.mem
	if r.Reply != nil && !replies(r.Body) {
		c.fail(
			d.Name.At, "no-reply", fmt.Sprintf("`%s` can come to its end without a reply", r.FullName()),
			"every way through the body has to `reply` or `deny`",
		)
	}
}

// isSent notes that clients may send any value of an enum.
func (c *builder) isSent(t *contract.Type) {
	if t == nil {
		return
	}
	if t.Enum != nil {
		c.Sent[t.Enum] = true
	}
	c.isSent(t.Key)
	c.isSent(t.Of)
	for _, p := range t.Parts {
		c.isSent(p.Type)
	}
}
