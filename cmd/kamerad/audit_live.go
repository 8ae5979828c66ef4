package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/cmd/kamerad/terminal"
	"kamerad.example/core/audit"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// livePlace is a session of a service as the audit reaches it: over its sockets, with a watch to see what those who run
// it see.
//
// The lock of watched guards news as well: both are filled by the watch and emptied by the audit.
type livePlace struct {
	admin   api.Client
	session int64
	tick    time.Duration
	ticket  func(name, role string) (string, error) // makes one for an attacker; nil where none is wanted
	watched watched
	news    []session.Decision
}

// auditLive attacks a session that runs.
//
// It needs nothing of the service but what any operator and player has: the API, the watch stream and
// seats. The contract is the published one, read by this program.
func auditLive(ctx context.Context, c *cli.Command) error {
	id, err := terminal.SessionArg(c.String("session"))
	if err != nil {
		return err
	}
	service := c.String("service")
	if err := onThisMachine(fmt.Sprintf("audit session %d", id), service, c.Bool("elsewhere")); err != nil {
		return err
	}
	long := c.Duration("for")
	if long < time.Second || long > time.Hour {
		return fmt.Errorf("read --for: from 1s to 1h, not %s", long)
	}
	admin := terminal.Service(c)
	checked, problems, err := contractOfLive(ctx, admin, id)
	if err != nil {
		return err
	}
	refused, got, err := auditDoor(ctx, c, admin, id, checked)
	if err != nil {
		return err
	}
	maker, err := terminal.TicketMaker(c, id)
	if err != nil {
		return err
	}
	p := &livePlace{admin: admin, session: id, tick: time.Second / time.Duration(checked.TickRate), ticket: maker}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	first := make(chan struct{})
	ended := make(chan error, 1)
	go func() { ended <- p.watch(ctx, first) }()
	select {
	case <-first:
	case err := <-ended:
		return err
	}
	began := time.Now()
	o := audit.LiveOptions{
		Seed:     c.Uint64("seed"),
		Name:     "audit " + strings.ToLower(rand.Text()[:4]),
		Findings: problems,
		More:     func() bool { return time.Since(began) < long },
	}
	stop := func() {}
	if !c.Bool("json") && term.IsTerminal(int(os.Stderr.Fd())) {
		var bar func(int)
		bar, stop = progressBar("attacking", int(long.Seconds()))
		more := o.More
		o.More = func() bool { bar(int(time.Since(began).Seconds())); return more() }
	}
	report, err := audit.Live(ctx, checked, p, o)
	stop()
	if err != nil {
		return err
	}
	report.Door = refused
	report.Findings = append(report.Findings, got...)
	return endAudit(c, report, time.Since(began))
}

// contractOfLive reads the contract of a session that runs, with what it is warned of.
func contractOfLive(
	ctx context.Context, admin api.Client, session int64,
) (checked *contract.Contract, problems syntax.Problems, err error) {
	s, err := admin.Session(ctx, session)
	if err != nil {
		return nil, nil, err
	}
	if !s.Open || s.Paused {
		return nil, nil, fmt.Errorf("audit session %d: it does not run", session)
	}
	version, err := admin.Version(ctx, s.Contract, s.Version)
	if err != nil {
		return nil, nil, err
	}
	checked, problems = compile.LoadWith(s.Contract+".kam", version.Source, contract.Files(version.Files).Open)
	if checked == nil {
		return nil, nil, fmt.Errorf("audit session %d: this program cannot read its contract: %w", session, problems)
	}
	return checked, problems, nil
}

// auditDoor attacks the door of a service that wants tickets, before its session is attacked by who has one.
func auditDoor(
	ctx context.Context, c *cli.Command, admin api.Client, session int64, checked *contract.Contract,
) (refused int, got []string, err error) {
	who, err := admin.Me(ctx)
	if err != nil || !who.Tickets {
		return 0, nil, err
	}
	key, err := terminal.ReadKey(c)
	if err != nil {
		return 0, nil, fmt.Errorf("audit session %d: the service wants tickets: %w", session, err)
	}
	p := &livePlace{admin: admin, session: session}
	return p.attackDoor(ctx, checked, key)
}

// watch keeps up what those who run the session see.
//
// It closes first when the sheet has come, which a stream begins with. When the stream ends, decisions
// stop coming; the audit then says of its attacks that what they changed was not told.
func (p *livePlace) watch(ctx context.Context, first chan struct{}) error {
	err := p.admin.Watch(ctx, p.session, func(m api.Watch) error {
		p.watched.mu.Lock()
		defer p.watched.mu.Unlock()
		if err := p.watched.apply(m); err != nil {
			return err
		}
		switch m.Type {
		case api.WatchSheet:
			close(first)
		case api.WatchTick:
			for _, d := range m.Decisions {
				p.news = append(p.news, decisionOf(d))
			}
		}
		return nil
	})
	if err == nil {
		err = errors.New("the session has closed")
	}
	return err
}

// decisionOf returns what the audit looks at of a decision.
//
// Check is −1, because the stream names a check by its text.
func decisionOf(d api.Decision) session.Decision {
	out := session.Decision{
		Tick:    d.Tick,
		Client:  d.Client,
		Ask:     wire.Ask{Seq: d.Seq, Request: d.Request},
		Entity:  d.Entity,
		Owner:   d.Owner,
		Outcome: d.Outcome,
		Stage:   d.Stage,
		Reason:  d.Reason,
		Check:   -1,
		Text:    d.CheckText,
		Line:    d.Line,
		Events:  d.Told,
	}
	for _, c := range d.Changes {
		out.Changes = append(out.Changes, session.Change{
			Entity:   c.Entity,
			Kind:     c.Kind,
			Owner:    c.Owner,
			Property: c.Property,
		})
	}
	return out
}

// Join takes a seat. Its connection is not made again once it is lost: an attacker that is out stays out.
func (p *livePlace) Join(
	ctx context.Context, name, role string, heard func(*wire.Frame), differs func(),
) (audit.Seat, error) {
	ticket := ""
	if p.ticket != nil {
		var err error
		ticket, err = p.ticket(name, role)
		if err != nil {
			return nil, err
		}
	}
	c, err := client.Join(ctx, p.admin.Service, p.session, name, role, client.Options{
		Ticket:   ticket,
		TLS:      p.admin.TLS,
		NotReady: true,
		OnFrame:  func(f *wire.Frame, _ []replicate.Notice) { heard(f) },
		OnDiffer: func(int64) { differs() },
		Again: func(context.Context, client.Seat) (client.Transport, error) {
			return nil, client.Ended("the audit makes no connection again")
		},
	})
	if err != nil {
		return nil, err
	}
	return c, nil
}

// Decisions implements audit.Place: those since it was called last.
func (p *livePlace) Decisions() []session.Decision {
	p.watched.mu.Lock()
	defer p.watched.mu.Unlock()
	out := p.news
	p.news = nil
	return out
}

// Truth implements audit.Place: what the server holds, as far as the watch has told.
func (p *livePlace) Truth(f func(*replicate.Copy)) {
	p.watched.mu.Lock()
	defer p.watched.mu.Unlock()
	f(&p.watched.server)
}

// Pass implements audit.Place: it lets a tick pass.
func (p *livePlace) Pass(ctx context.Context) error {
	select {
	case <-time.After(p.tick):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// onThisMachine refuses to attack a service that is not on this machine, unless that is meant.
func onThisMachine(what, service string, elsewhere bool) error {
	u, err := url.Parse(service)
	if err != nil {
		return fmt.Errorf("read the service's address: %w", err)
	}
	if ip := net.ParseIP(u.Hostname()); u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) && !elsewhere {
		return fmt.Errorf(
			"%s: the service %s is not on this machine; --elsewhere attacks it all the same", what, service,
		)
	}
	return nil
}
