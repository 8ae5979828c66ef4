package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"kamerad.example/client"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

type (
	outcome = wire.Outcome
	stage   = wire.Stage
)

// outline returns what clients of a session are given of its contract.
func (v *Service) outline(r *http.Request) (*contract.Outline, error) {
	x, err := v.running(r)
	if err != nil {
		return nil, err
	}
	return x.outline, nil
}

// openTestClient takes a seat for a client that the console or the command line drives.
func (v *Service) openTestClient(r *http.Request) (wire.Client, error) {
	x, err := v.running(r)
	if err != nil {
		return wire.Client{}, err
	}
	var in struct{ Name, Role string }
	if err := read(r, &in); err != nil {
		return wire.Client{}, err
	}
	test, line, err := x.seatInside(
		r.Context(), joinRequest{Join: wire.Join{Name: in.Name, Role: in.Role}, test: true}, client.Options{},
	)
	if err != nil {
		return wire.Client{}, err
	}
	n := test.Me().Number
	v.mu.Lock()
	v.tests[seatKey{x.id, n}] = testClient{test, line}
	v.mu.Unlock()
	go func() {
		<-test.Ended()
		v.mu.Lock()
		delete(v.tests, seatKey{x.id, n})
		v.mu.Unlock()
	}()
	return test.Me(), nil
}

// Host seats a client of a session within this process: the player at whose machine the service runs. It is a client
// like any other, on a pipe instead of a socket.
func (v *Service) Host(
	ctx context.Context, session int64, name, role string, o client.Options,
) (*client.Client, error) {
	x := v.runner(session)
	if x == nil {
		return nil, fmt.Errorf("host session %d: it does not run", session)
	}
	c, _, err := x.seatInside(ctx, joinRequest{Join: wire.Join{Name: name, Role: role}, json: o.JSON}, o)
	if err != nil {
		return nil, fmt.Errorf("host session %d as %s: %w", session, name, err)
	}
	return c, nil
}

// seatInside joins a client that runs within the service.
func (r *runner) seatInside(
	ctx context.Context, j joinRequest, o client.Options,
) (*client.Client, *simulatedLink, error) {
	j.pipe = true
	c, err := r.takeSeat(ctx, j)
	if err != nil {
		return nil, nil, err
	}
	p := newPipe(r, c, newSimulatedLink())
	o.Again = p.reconnect
	seated, err := client.New(ctx, p, o)
	return seated, p.link, err
}

// takeSeat has the runner seat a client.
func (r *runner) takeSeat(ctx context.Context, j joinRequest) (c *connection, err error) {
	var refused error
	if err := r.do(ctx, func() { c, refused = r.join(j) }); err != nil {
		return nil, err
	}
	return c, refused
}

type seatKey struct {
	session int64
	client  int
}

// testClient is a client that was opened through the API.
type testClient struct {
	*client.Client
	line *simulatedLink
}

// testClient finds the test client of a call.
func (v *Service) testClient(r *http.Request) (test testClient, err error) {
	x, err := v.running(r)
	if err != nil {
		return test, err
	}
	n, err := strconv.Atoi(chi.URLParam(r, "client"))
	v.mu.Lock()
	defer v.mu.Unlock()
	test = v.tests[seatKey{x.id, n}]
	if test.Client != nil && err == nil {
		return test, nil
	}
	no := &refusal{
		status: http.StatusNotFound,
		detail: fmt.Sprintf(
			"session %d has no test client %.20s; other clients ask for themselves", x.id, chi.URLParam(r, "client"),
		),
	}
	for k, test := range v.tests {
		if k.session == x.id && len(no.known) < 20 {
			no.known = append(no.known, fmt.Sprintf("%d (%s)", k.client, test.Me().Name))
		}
	}
	return testClient{}, no
}

// askAsTestClient sends a request as a test client and waits for the decision.
func (v *Service) askAsTestClient(r *http.Request) (wire.Decision, error) {
	test, err := v.testClient(r)
	if err != nil {
		return wire.Decision{}, err
	}
	var in struct {
		Entity  uint32
		Request string
		Args    []json.RawMessage
	}
	if err := read(r, &in); err != nil {
		return wire.Decision{}, err
	}
	ctx, cancel := context.WithTimeout(r.Context(), 10*time.Second)
	defer cancel()
	d, err := test.Forge(ctx, in.Entity, in.Request, in.Args...)
	if errors.Is(err, client.ErrEnded) || errors.Is(err, context.DeadlineExceeded) {
		return d, &refusal{status: http.StatusConflict, detail: err.Error()}
	}
	return d, err
}

// linkOf returns what a test client's link is like.
func (v *Service) linkOf(r *http.Request) (client.Link, error) {
	test, err := v.testClient(r)
	if err != nil {
		return client.Link{}, err
	}
	return test.line.get(), nil
}

// setLink changes what a test client's link is like.
func (v *Service) setLink(r *http.Request) (client.Link, error) {
	test, err := v.testClient(r)
	if err != nil {
		return client.Link{}, err
	}
	var in client.Link
	if err := read(r, &in); err != nil {
		return client.Link{}, err
	}
	if err := test.line.set(in); err != nil {
		return client.Link{}, &badRequest{err.Error()}
	}
	return test.line.get(), nil
}

// closeTestClient gives the seat of a test client back.
func (v *Service) closeTestClient(r *http.Request) (wire.Client, error) {
	test, err := v.testClient(r)
	if err != nil {
		return wire.Client{}, err
	}
	test.Close()
	return test.Me(), nil
}

// seatRow is who took part.
type seatRow struct {
	wire.Client
	JoinedAt   time.Time  `json:"joined_at"`
	LeftAt     *time.Time `json:"left_at,omitempty"`
	LeftReason string     `json:"left_reason,omitempty"`
}

// seats lists who has and had a seat in a session.
func (v *Service) seats(r *http.Request) ([]seatRow, error) {
	s, err := v.session(r)
	if err != nil {
		return nil, err
	}
	list, err := v.store.Seats(r.Context(), s.ID)
	out := []seatRow{}
	for _, x := range list {
		row := seatRow{
			Client:   wire.Client{Number: x.Client, Name: x.Name, Role: x.Role},
			JoinedAt: x.JoinedAt,
			LeftAt:   x.LeftAt,
		}
		if x.LeftReason != nil {
			row.LeftReason = *x.LeftReason
		}
		out = append(out, row)
	}
	return out, err
}
