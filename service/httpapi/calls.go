package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"time"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/core/syntax"
	"kamerad.example/service/problems"
)

// BodyWithin is how long the body of a call may take to arrive.
const BodyWithin = 10 * time.Second

// Bounds of what those who call the service may hold of it.
const (
	maxBody      = 2 * syntax.MaxSource // bytes: the longest contract with its files; each call bounds it further
	smallBody    = 64 << 10             // bytes; a longer body takes one of the places for long ones
	longBodies   = 32                   // that arrive at once
	publishings  = 2                    // contracts that are checked at once: a long one takes a hundred megabytes
	turnWithin   = 20 * time.Second     // how long a call waits for such a place
	slowToArrive = "the body did not arrive within 10 s"
)

// errNoTurn refuses a call that found no place in time.
var errNoTurn = &problems.Refusal{
	Status: http.StatusServiceUnavailable,
	Detail: "the service does as many of these at once as it may; try again",
}

// places bounds how many do something at once.
type places chan struct{}

// take waits for a place, which leave gives back.
//
// leave has to be called exactly once. There is no queue: whoever is woken first has the place.
func (p places) take(ctx context.Context) (leave func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, turnWithin)
	defer cancel()
	select {
	case p <- struct{}{}:
		return func() { <-p }, nil
	case <-ctx.Done():
		return nil, errNoTurn
	}
}

// Bodiless lets what a call without a body asks for take as long as it does. A call with a body is refused or read to
// its end within the server's ReadTimeout, whoever answers it: a server reads a body to its end before it answers.
//
// Without it, the deadline for reading a body would also end a call that takes long to answer, such as
// a watch.
func Bodiless(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength == 0 {
			_ = http.NewResponseController(w).SetReadDeadline(time.Time{})
		}
		next.ServeHTTP(w, r)
	})
}

// readBody reads the body of a call, which has to arrive in time, so that nothing else waits for it.
//
// Afterwards r.Body is in memory and cannot fail. A body of unknown length counts as a long one.
func (a *API) readBody(w http.ResponseWriter, r *http.Request) error {
	if r.ContentLength == 0 || r.Body == nil {
		return nil
	}
	if r.ContentLength < 0 || r.ContentLength > smallBody {
		leave, err := a.bodies.take(r.Context())
		if err != nil {
			return err
		}
		defer leave()
	}
	r.Body = http.MaxBytesReader(w, r.Body, maxBody)
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Now().Add(BodyWithin)) // what is no connection has none
	body, err := io.ReadAll(r.Body)
	var late net.Error
	if errors.As(err, &late) && late.Timeout() {
		return &problems.Refusal{Status: http.StatusRequestTimeout, Detail: slowToArrive}
	}
	_ = control.SetReadDeadline(time.Time{})
	if err != nil {
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			return err
		}
		return problems.BadRequest("read what was sent: " + err.Error())
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	return nil
}

// answer turns a function into a handler for those who have a right: what it returns is sent as JSON, an error as
// problem details. The body has arrived when the function is called.
//
// Nothing is ever cached: every answer is of this moment.
func answer[T any](a *API, right auth.Right, f func(*http.Request) (T, error)) http.HandlerFunc {
	return a.need(right, func(w http.ResponseWriter, r *http.Request) {
		var out T
		err := a.readBody(w, r)
		if err == nil {
			out, err = f(r)
		}
		if err != nil {
			a.refuse(w, r, err)
			return
		}
		a.send(w, r, out)
	})
}

// send answers a call with a value as JSON.
func (*API) send(w http.ResponseWriter, r *http.Request, out any) {
	body := api.Encode(out)
	if err := checkAnswer(r, http.StatusOK, body); err != nil {
		problems.Send(w, problems.Of(err, r))
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	_, _ = w.Write(append(body, '\n'))
}

// read decodes the body of a call; an empty one leaves out as it is.
//
// A field that the call does not have is an error, since it is most likely a misspelt one.
func read(r *http.Request, out any) error {
	dec := json.NewDecoder(r.Body)
	dec.DisallowUnknownFields()
	err := dec.Decode(out)
	var large *http.MaxBytesError
	if err == nil || errors.Is(err, io.EOF) || errors.As(err, &large) {
		if errors.Is(err, io.EOF) {
			return nil
		}
		return err
	}
	return problems.BadRequest("read what was sent: " + err.Error())
}
