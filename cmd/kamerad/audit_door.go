package main

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"kamerad.example/auth"
	"kamerad.example/client"
	"kamerad.example/core/contract"
)

// doorAttack is an attempt to get a seat that is not one's own.
type doorAttack struct {
	what       string
	name, role string
	ticket     func() (string, error)
}

// attackDoor tries to take seats without the right to them, and returns how many attempts were refused, and those that
// were not. The error says that it could not be tried: somebody with a right ticket gets no seat either.
func (p *livePlace) attackDoor(
	ctx context.Context, c *contract.Contract, key auth.Key,
) (refused int, got []string, err error) {
	for _, a := range p.doorAttacks(c, key) {
		ticket, err := a.ticket()
		if err != nil {
			return refused, got, fmt.Errorf("attack the door: %s: %w", a.what, err)
		}
		switch in, err := p.tryDoor(ctx, a.name, a.role, ticket); {
		case err != nil:
			return refused, got, fmt.Errorf("attack the door: %s: %w", a.what, err)
		case in:
			got = append(got, "the door lets in who comes "+a.what)
		default:
			refused++
		}
	}
	twice, err := p.sign(key, func(*auth.Ticket) {})
	if err != nil {
		return refused, got, err
	}
	for i := range 2 {
		in, err := p.tryDoor(ctx, "", "", twice)
		switch {
		case err != nil:
			return refused, got, fmt.Errorf("attack the door: %w", err)
		case i == 0 && !in:
			return refused, got, errors.New("attack the door: a right ticket gets no seat, so that nothing is proven")
		case i == 1 && in:
			got = append(got, "the door takes a ticket twice")
		case i == 1:
			refused++
		}
	}
	return refused, got, nil
}

// sign makes a ticket for an attacker, which change may change before it is signed.
func (p *livePlace) sign(key auth.Key, change func(*auth.Ticket)) (string, error) {
	now := time.Now()
	t := auth.Ticket{
		Player:  "kamerad:audit",
		Name:    "audit door",
		Session: p.session,
		Expires: now.Add(time.Minute),
	}
	change(&t)
	return auth.Sign(key, t, now)
}

// tryDoor reports whether somebody gets a seat; it is left at once. The error is one of the network.
func (p *livePlace) tryDoor(ctx context.Context, name, role, ticket string) (in bool, err error) {
	c, err := client.Join(
		ctx, p.admin.Service, p.session, name, role, client.Options{Ticket: ticket, TLS: p.admin.TLS, NotReady: true},
	)
	var refused *client.Refused
	if errors.As(err, &refused) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	c.Close()
	return true, nil
}

// doorAttacks lists what is tried on a session.
func (p *livePlace) doorAttacks(c *contract.Contract, key auth.Key) []doorAttack {
	signed := func(change func(*auth.Ticket)) func() (string, error) {
		return func() (string, error) { return p.sign(key, change) }
	}
	whole := func(*auth.Ticket) {}
	altered := func(part int, text string) func() (string, error) {
		return func() (string, error) {
			ticket, err := p.sign(key, whole)
			parts := strings.Split(ticket, ".")
			if err == nil {
				parts[part] = base64.RawURLEncoding.EncodeToString([]byte(text))
			}
			return strings.Join(parts, "."), err
		}
	}
	claims := fmt.Sprintf(
		`{"sub":"kamerad:audit","name":"audit door","session":%d,"jti":"%s","aud":"kamerad","exp":%d}`, p.session,
		rand.Text(), time.Now().Add(time.Minute).Unix(),
	)
	out := []doorAttack{
		{what: "without a ticket", name: "audit door", ticket: func() (string, error) { return "", nil }},
		{what: "with any text as a ticket", ticket: func() (string, error) { return rand.Text(), nil }},
		{what: "with claims that were altered", ticket: altered(1, claims)},
		{what: "with the algorithm none", ticket: altered(0, fmt.Sprintf(`{"alg":"none","kid":%q}`, key.Name))},
		{what: "with a signature that was altered", ticket: altered(2, rand.Text())},
		{what: "with a key of one's own", ticket: func() (string, error) {
			own, err := auth.NewKey(key.Name, key.Algorithm)
			if err != nil {
				return "", err
			}
			return p.sign(own, whole)
		}},
		{what: "with a ticket for another session", ticket: signed(func(t *auth.Ticket) { t.Session++ })},
		{what: "with a ticket for another contract", ticket: signed(func(t *auth.Ticket) {
			t.Session = 0
			t.Contract = c.Name + "_other"
		})},
		{what: "under another name than the ticket's", name: "somebody else", ticket: signed(whole)},
	}
	for i, role := range c.Roles {
		if c.ByTicket(role) {
			out = append(out, doorAttack{
				what:   "as " + role + " with a ticket that names no role",
				role:   role,
				ticket: signed(whole),
			})
		}
		other := c.Roles[(i+1)%len(c.Roles)]
		if other != role {
			out = append(out, doorAttack{
				what:   "as " + role + " with a ticket for " + other,
				role:   role,
				ticket: signed(func(t *auth.Ticket) { t.Role = other }),
			})
		}
	}
	return out
}
