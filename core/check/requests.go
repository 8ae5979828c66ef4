package check

import (
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/typing"
)

// request reads a request: who may send it, how often, its checks and its body.
//
// Head and body share one scope: what the head declares with `let` is known in the body, in the same
// registers. Only the body may change something and roll.
func (c *builder) request(r *contract.Request, d *syntax.Request) {
	r.Params = c.Params(d.Params, typing.InMessage)
	for _, p := range r.Params {
		c.isSent(p.Type)
	}
	env := &typing.Scope{
		Unit:    c.Unit,
		Kind:    r.Kind,
		Request: r,
		Pure:    true,
		Still:   true,
	}
	env.Arguments(d.Params, r.Params)
	c.from(r, d, env)
	c.limits(r, d)
	if d.Reply != nil {
		c.reply(r, d)
	}
	r.Head = env.Block(d.Head)
	env.Pure = false
	env.Still = false
	r.Body = env.Block(d.Body)
	r.Locals = env.Nums
	r.Memory = env.Mem
	if r.Reply != nil && !typing.Replies(r.Body) {
		c.Fail(
			d.Name.At, "no-reply", fmt.Sprintf("`%s` can come to its end without a reply", r.FullName()),
			"every way through the body has to `reply` or `deny`",
		)
	}
}

// from reads who may send a request: its owner, unless it says otherwise.
//
// A request that nobody could ever send is a mistake, not a warning: a forgotten `from` is the usual
// reason.
func (c *builder) from(r *contract.Request, d *syntax.Request, env *typing.Scope) {
	r.From = []contract.Who{{Sort: contract.ToOwner}}
	if d.From != nil {
		// Who may send is decided before the arguments are looked at.
		scopes := env.Scopes
		env.Scopes = []map[string]*contract.Expr{{}}
		if who := env.Who(d.From, "may send a request"); who != nil {
			r.From = who
		}
		env.Scopes = scopes
		return
	}
	if r.Kind.Per >= 0 || c.InPart != nil {
		return
	}
	c.Later = append(c.Later, func() { // whether anything gives such an entity to a client is known once all is read
		if !r.Kind.GivenAway {
			c.Fail(
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

// limits reads how often a request may be sent.
//
// Both are counted per client, in ticks: a limit over a window of one second unless it names another
// one, a pause from the last accepted request on.
func (c *builder) limits(r *contract.Request, d *syntax.Request) {
	if d.Limit != nil {
		window := int64(1000)
		if d.Limit.Window != nil {
			window = d.Limit.Window.Value
		}
		if c.Bounded(d.Limit.Count.At, "the limit", d.Limit.Count.Value, 1, contract.MaxLimit) {
			r.Limit = &contract.Limit{Count: int(d.Limit.Count.Value), Window: c.Ticks(d.Limit.At, window), Ms: window}
		}
	}
	if d.Pause != nil {
		r.Pause = &contract.Pause{Reason: d.Pause.Reason.Value}
		env := c.Condition(r.Kind)
		env.Request = r
		r.Pause.Ticks, r.Pause.Ms, r.Pause.Wait = c.wait(env, d.Pause.Window, "the pause")
		c.Reason(d.Pause.Reason)
	}
}

// wait reads a time that something waits for. computed is what computes its milliseconds, nil for a constant.
func (c *builder) wait(env *typing.Scope, x syntax.Expr, what string) (ticks, ms int64, computed *contract.Body) {
	ticks, ms, v := env.Time(x, what)
	if v == nil {
		return ticks, ms, nil
	}
	return 0, 0, &contract.Body{
		Value:  v,
		Locals: env.Nums,
		Memory: env.Mem,
		File:   c.Source.File(x.Span().Start),
		Line:   c.LineOf(x.Span()),
		At:     x.Span(),
	}
}

// reply reads the type of what a request replies.
func (c *builder) reply(r *contract.Request, d *syntax.Request) {
	r.Reply = c.Type(d.Reply, typing.InMessage)
	if r.Reply != nil && r.Reply.Holder() {
		c.Fail(
			d.Reply.At, "wrong-type", "a list or map cannot be a reply",
			"reply with one value, or let a property hold it",
		)
		r.Reply = nil
	}
	if r.Reply == nil {
		r.Reply = &contract.Type{} // what is replied is not told again
	}
}

// isSent notes that clients may send any value of an enum.
//
// A value that no text names is in use all the same when a client can send it.
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
