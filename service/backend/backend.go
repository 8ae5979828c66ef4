// Package backend tells the game's own backend what happens in sessions: who joins, who leaves and why, and how a
// session ends.
//
// What it is told stands in the database, in the transaction of what it tells of, and is sent again and again until the
// backend has answered with a status of 2xx. Each call has a number: one that comes twice has the same. Calls are
// signed as RFC 9421 says. Several services on a database share the work.
package backend

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"golang.org/x/time/rate"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/store"
)

// Records keep what the backend is to be told.
type Records interface {
	AddBackend(ctx context.Context) error
	TakeBackendCalls(ctx context.Context, limit int, within time.Duration) ([]store.BackendCall, error)
	EndBackendCall(ctx context.Context, number int64, failure string, again time.Duration) error
	BackendWaiting(ctx context.Context) (int, error)
	ForgetBackendCalls(ctx context.Context, answered, waiting time.Duration) (lost int64, err error)
}

// Bounds of calls.
const (
	atOnce       = 8                      // calls that are under way
	callWithin   = 5 * time.Second        // for one
	takenFor     = 30 * time.Second       // another service tries it then
	lookEvery    = 200 * time.Millisecond // for calls, when there were none
	firstAgain   = time.Second            // after a failure; twice as long after each further one
	lastAgain    = 5 * time.Minute        // and no longer than that
	keptAnswered = 24 * time.Hour         // to be looked at
	keptWaiting  = 7 * 24 * time.Hour     // a backend that has not answered for so long is not there
	tidyEvery    = 5 * time.Second
)

// Options are what a Backend is made of.
type Options struct {
	Records Records
	URL     string   // that is called
	Key     auth.Key // that signs
	Metrics prometheus.Registerer
}

// Backend tells the game's backend what happens.
type Backend struct {
	records Records
	url     string
	key     auth.Key
	http    *http.Client
	calls   *prometheus.CounterVec
	waiting atomic.Int64
	failing rate.Sometimes
}

// New makes a Backend, which does nothing before Run. Metrics of it are registered in any case; without a URL there is
// no backend.
func New(o Options) *Backend {
	b := &Backend{
		records: o.Records,
		url:     o.URL,
		key:     o.Key,
		http: &http.Client{
			Timeout:       callWithin,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			Transport: &http.Transport{
				MaxConnsPerHost:     atOnce,
				MaxIdleConnsPerHost: atOnce,
				Proxy:               http.ProxyFromEnvironment,
			},
		},
		calls: prometheus.NewCounterVec(
			prometheus.CounterOpts{
				Name: "kamerad_backend_calls_total",
				Help: "Calls to the game's backend, by what came of them: answered, failed or lost.",
			},
			[]string{"result"},
		),
		failing: rate.Sometimes{Interval: time.Minute},
	}
	o.Metrics.MustRegister(b.calls, prometheus.NewGaugeFunc(
		prometheus.GaugeOpts{
			Name: "kamerad_backend_waiting",
			Help: "Calls that the game's backend has not answered yet.",
		},
		func() float64 { return float64(b.waiting.Load()) },
	))
	return b
}

// Prepare notes that there is a backend, if there is one, before any session runs.
func (b *Backend) Prepare(ctx context.Context) error {
	if b.records == nil || b.url == "" {
		return nil
	}
	return b.records.AddBackend(ctx)
}

// Run tells the backend what there is to tell, until ctx ends. Without a backend it only looks after what another
// service on the database is to tell.
func (b *Backend) Run(ctx context.Context) {
	if b.records == nil {
		return
	}
	var workers sync.WaitGroup
	if b.url != "" {
		for range atOnce {
			workers.Go(func() { b.work(ctx) })
		}
	}
	for ctx.Err() == nil {
		b.tidy(ctx)
		select {
		case <-time.After(tidyEvery):
		case <-ctx.Done():
		}
	}
	workers.Wait()
}

// tidy counts what waits, and deletes what nobody asks for any more.
func (b *Backend) tidy(ctx context.Context) {
	if n, err := b.records.BackendWaiting(ctx); err == nil {
		b.waiting.Store(int64(n))
	}
	lost, err := b.records.ForgetBackendCalls(ctx, keptAnswered, keptWaiting)
	if err == nil && lost > 0 {
		b.calls.WithLabelValues("lost").Add(float64(lost))
		slog.Error("the backend has not answered for a week; what it was to be told is given up", "calls", lost)
	}
}

// work takes one call after the other.
func (b *Backend) work(ctx context.Context) {
	for ctx.Err() == nil {
		list, err := b.records.TakeBackendCalls(ctx, 1, takenFor)
		if err == nil && len(list) > 0 {
			b.try(ctx, list[0])
			continue
		}
		select {
		case <-time.After(lookEvery + rand.N(lookEvery)):
		case <-ctx.Done():
		}
	}
}

// try makes one call, and notes what came of it.
func (b *Backend) try(ctx context.Context, c store.BackendCall) {
	err := b.call(ctx, c)
	if ctx.Err() != nil {
		return // it is tried again when it is not taken any more
	}
	failure := ""
	again := time.Duration(0)
	if err != nil {
		failure = err.Error()
		again = min(firstAgain<<min(c.Tries, 20), lastAgain)
		again += rand.N(again / 4)
		b.calls.WithLabelValues("failed").Inc()
		b.failing.Do(
			func() { slog.Warn("the backend does not answer; it is called again", "call", c.Number, "error", err) },
		)
	} else {
		b.calls.WithLabelValues("answered").Inc()
	}
	if err := b.records.EndBackendCall(ctx, c.Number, failure, again); err != nil {
		slog.Warn(
			"it cannot be noted what the backend has answered; it may be told twice",
			"call",
			c.Number,
			"error",
			err,
		)
	}
}

// describe returns a call as the backend gets it.
func describe(c store.BackendCall) ([]byte, error) {
	out := api.BackendCall{
		Number:   c.Number,
		Event:    c.Event,
		At:       c.At,
		Session:  c.Session,
		Contract: c.Contract,
		Version:  c.Version,
	}
	if err := json.Unmarshal(c.Payload, &out); err != nil {
		return nil, fmt.Errorf("read call %d: %w", c.Number, err)
	}
	if string(out.Result) == "null" {
		out.Result = nil
	}
	return json.Marshal(out)
}

// maxAnswer is how many bytes of an answer are read.
const maxAnswer = 64 << 10

// call makes one call. The error says that it was not answered as it has to be.
func (b *Backend) call(ctx context.Context, c store.BackendCall) error {
	body, err := describe(c)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, b.url, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	if err := auth.SignRequest(r, body, b.key, time.Now()); err != nil {
		return err
	}
	answer, err := b.http.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, maxAnswer))
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}
