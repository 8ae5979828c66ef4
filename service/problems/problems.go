// Package problems says what a caller of the API is told of an error, as RFC 9457 describes it.
//
// A Refusal is an error that says so itself, with a status and a code; Of turns any error into a Problem, and those
// that are no fault of the caller's into one that says nothing of what is inside and is logged. The package knows the
// errors of the packages below it and none of what led to them.
package problems

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"

	"github.com/go-chi/chi/v5/middleware"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/service/runner"
)

// Refusal is an error with its answer. A Status of 0 belongs to a client that was not seated over a WebSocket, which is
// told the code alone.
type Refusal struct {
	Status   int // of HTTP
	Detail   string
	Known    []string        // what exists instead
	Mistakes syntax.Problems // of a contract, or of drills
	Code     string          // of a client that was not seated; see package api
}

func (r *Refusal) Error() string { return r.Detail }

// BadRequest returns the error of one who called in a wrong way.
func BadRequest(detail string) *Refusal {
	return &Refusal{Status: http.StatusBadRequest, Detail: detail}
}

// ErrStopping refuses what a service that stops does not begin any more.
var ErrStopping = BadRequest("the service is stopping")

// Answer answers a call with an error.
func Answer(w http.ResponseWriter, status int, detail string) {
	Send(w, &api.Problem{Status: status, Detail: detail})
}

// Send answers a call with a problem.
func Send(w http.ResponseWriter, p *api.Problem) {
	p.Type = "about:blank"
	p.Title = http.StatusText(p.Status)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

// statuses are those of a runner's refusals that are no bad requests.
var statuses = map[string]int{api.CodeOtherOutline: http.StatusConflict}

// Of returns what a caller is told of an error. What the service itself failed of stands in its log alone: it may name
// the database, its user or a file.
func Of(err error, r *http.Request) *api.Problem {
	var no *Refusal
	var refused *runner.Refusal
	var seat *session.Refusal
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &no):
		return &api.Problem{
			Status:   no.Status,
			Detail:   no.Detail,
			Known:    no.Known,
			Problems: no.Mistakes,
			Code:     no.Code,
		}
	case errors.As(err, &refused):
		status := http.StatusBadRequest
		if other, ok := statuses[refused.Code]; ok {
			status = other
		}
		return &api.Problem{Status: status, Detail: refused.Detail, Code: refused.Code}
	case errors.As(err, &seat):
		return &api.Problem{Status: http.StatusBadRequest, Detail: seat.Error(), Code: string(seat.Code)}
	case errors.As(err, &large):
		return &api.Problem{
			Status: http.StatusRequestEntityTooLarge,
			Detail: fmt.Sprintf("what was sent is longer than %d bytes", large.Limit),
		}
	case errors.Is(err, runner.ErrClosed):
		return &api.Problem{Status: http.StatusConflict, Detail: err.Error(), Code: api.CodeNotRunning}
	case errors.Is(err, runner.ErrBusy):
		return &api.Problem{Status: http.StatusServiceUnavailable, Detail: err.Error(), Code: api.CodeBusy}
	// anybody can go away as often as they like: that fills no log
	case errors.Is(err, context.Canceled) && r.Context().Err() != nil:
		return &api.Problem{Status: http.StatusServiceUnavailable, Detail: "whoever called has gone away"}
	}
	slog.Error(
		"a call failed",
		"request",
		middleware.GetReqID(r.Context()),
		"method",
		r.Method,
		"path",
		r.URL.Path,
		"error",
		err,
	)
	return &api.Problem{
		Status: http.StatusInternalServerError,
		Detail: "the service could not do this; its log says why",
		Code:   api.CodeServiceFailed,
	}
}
