package httpapi

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/client"
	"kamerad.example/core/wire"
	"kamerad.example/service/gateway"
	"kamerad.example/service/problems"
)

// seatKey names a client of a session.
type seatKey struct {
	session int64
	client  int
}

// openTestClient takes a seat for a client that the console or the command line drives.
//
// A test client is a client of the library in this process, over a simulated link, and has no more
// rights than any other.
func (a *API) openTestClient(r *http.Request, in api.OpenTestClient) (wire.Client, error) {
	x, err := a.running(r)
	if err != nil {
		return wire.Client{}, err
	}
	if x.Runner().Session().Contract().ByTicket(in.Role) && !operatorOf(r).Right.Includes(auth.Run) {
		return wire.Client{}, &problems.Refusal{
			Status: http.StatusForbidden,
			Code:   api.CodeRightMissing,
			Detail: fmt.Sprintf(
				"open a test client: the role %.40q is had by ticket alone, so that it takes the right to run", in.Role,
			),
		}
	}
	test, err := x.SeatInside(r.Context(), wire.Join{Name: in.Name, Role: in.Role}, true, client.Options{})
	if err != nil {
		return wire.Client{}, err
	}
	a.keepTestClient(x.Runner().ID(), test)
	a.note(r, x.Runner().ID(), fmt.Sprintf("opened the test client %s", test.Me().Name))
	return test.Me(), nil
}

// keepTestClient keeps a client that runs within the service, to be driven through the API until it ends.
//
// The goroutine ends with the client, at the latest when the session closes.
func (a *API) keepTestClient(session int64, test gateway.Client) {
	key := seatKey{session, test.Me().Number}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.tests[key] = test
	go func() {
		<-test.Ended()
		a.mu.Lock()
		defer a.mu.Unlock()
		delete(a.tests, key)
		maps.DeleteFunc(a.holds, func(k holdKey, _ func()) bool { return k.seatKey == key })
	}()
}

// testClient finds the test client of a call.
//
// Clients that joined from elsewhere cannot be driven through the API. The error names the test clients
// that there are, at most twenty.
func (a *API) testClient(r *http.Request) (test gateway.Client, err error) {
	x, err := a.running(r)
	if err != nil {
		return test, err
	}
	n, err := strconv.Atoi(chi.URLParam(r, "client"))
	a.mu.Lock()
	defer a.mu.Unlock()
	test = a.tests[seatKey{x.Runner().ID(), n}]
	if test.Client != nil && err == nil {
		return test, nil
	}
	no := &problems.Refusal{
		Status: http.StatusNotFound,
		Detail: fmt.Sprintf(
			"session %d has no test client %.20s; other clients ask for themselves", x.Runner().ID(),
			chi.URLParam(r, "client"),
		),
	}
	for k, test := range a.tests {
		if k.session == x.Runner().ID() && len(no.Known) < 20 {
			no.Known = append(no.Known, fmt.Sprintf("%d (%s)", k.client, test.Me().Name))
		}
	}
	return gateway.Client{}, no
}

// askAsTestClient sends a request as a test client and waits for the decision.
//
// The request may be one that a client library would refuse to send: what the server says to it is what
// is asked.
func (a *API) askAsTestClient(r *http.Request, in api.Ask) (wire.Decision, error) {
	test, err := a.testClient(r)
	if err != nil {
		return wire.Decision{}, err
	}
	ctx, cancel := context.WithTimeout(r.Context(), 10*time.Second)
	defer cancel()
	d, err := test.Forge(ctx, in.Entity, in.Request, in.Args...)
	if errors.Is(err, client.ErrEnded) || errors.Is(err, context.DeadlineExceeded) {
		return d, &problems.Refusal{Status: http.StatusConflict, Detail: err.Error()}
	}
	return d, err
}

// holdKey names a hold that a test client keeps pressed.
type holdKey struct {
	seatKey
	entity   uint32
	property string
}

// maxHolds is how many holds one test client keeps pressed at most.
const maxHolds = 64

// holdAsTestClient presses a hold as a test client, and keeps it pressed until it is released.
//
// A lease that the server ends stays ended: only another press begins a new one.
func (a *API) holdAsTestClient(r *http.Request, in api.Hold) (out api.Held, err error) {
	test, err := a.testClient(r)
	if err != nil {
		return out, err
	}
	x, err := a.running(r)
	if err != nil {
		return out, err
	}
	key := holdKey{seatKey{x.Runner().ID(), test.Me().Number}, in.Entity, in.Property}
	if err := a.releaseHold(key); err != nil || in.Release {
		return out, err
	}
	release, err := test.Hold(in.Entity, in.Property) // outside the lock: the link may be slow
	if err != nil {
		return out, problems.BadRequest(err.Error())
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if before := a.holds[key]; before != nil || a.tests[key.seatKey].Client == nil {
		release() // somebody else was faster, or the client has ended
		return api.Held{Pressed: before != nil}, nil
	}
	a.holds[key] = release
	out.Pressed = true
	return out, nil
}

// releaseHold releases a hold if it is kept pressed. The error says that the test client cannot keep one more.
func (a *API) releaseHold(key holdKey) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if release := a.holds[key]; release != nil {
		release()
		delete(a.holds, key)
	}
	count := 0
	for k := range a.holds {
		if k.seatKey == key.seatKey {
			count++
		}
	}
	if count >= maxHolds {
		return problems.BadRequest(
			fmt.Sprintf("a test client keeps at most %d holds pressed; release one", maxHolds),
		)
	}
	return nil
}

// writeAsTestClient writes a property as a test client.
//
// The server answers a write only when it refuses it, which who watches the session is told.
func (a *API) writeAsTestClient(r *http.Request, in api.Write) (out api.Written, err error) {
	test, err := a.testClient(r)
	if err != nil {
		return out, err
	}
	out.Seq, err = test.Write(in.Entity, in.Property, in.Value)
	if errors.Is(err, client.ErrEnded) {
		return out, &problems.Refusal{Status: http.StatusConflict, Detail: err.Error()}
	}
	if err != nil {
		return out, problems.BadRequest(err.Error())
	}
	return out, nil
}

// linkOf returns what a test client's link is like.
func (a *API) linkOf(r *http.Request) (api.Link, error) {
	test, err := a.testClient(r)
	if err != nil {
		return api.Link{}, err
	}
	return test.Link.Get(), nil
}

// setLink changes what a test client's link is like.
//
// It is set as a whole: what the call leaves out is perfect.
func (a *API) setLink(r *http.Request, in api.Link) (api.Link, error) {
	test, err := a.testClient(r)
	if err != nil {
		return api.Link{}, err
	}
	if err := test.Link.Set(in); err != nil {
		return api.Link{}, problems.BadRequest(err.Error())
	}
	return test.Link.Get(), nil
}

// closeTestClient frees the seat of a test client.
func (a *API) closeTestClient(r *http.Request) (wire.Client, error) {
	test, err := a.testClient(r)
	if err != nil {
		return wire.Client{}, err
	}
	test.Close()
	return test.Me(), nil
}
