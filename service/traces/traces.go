// Package traces tells an OpenTelemetry collector the way that requests take through the service: calls of the HTTP
// API, and requests of clients from being read to the frames that hold their decisions. It knows nothing of what they
// do, and tells no value, name of a player or address.
//
// A nil *Traces follows nothing and costs nothing. What cannot be sent is dropped: nothing ever waits for a collector.
package traces

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"net/url"
	"runtime/debug"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
	"golang.org/x/time/rate"

	"kamerad.example/core/session"
)

// Traces follow the requests of one service. Its methods may be called by any number of goroutines.
type Traces struct {
	provider *sdk.TracerProvider
	tracer   trace.Tracer
	headers  propagation.TraceContext
}

// New returns what sends traces by OTLP over HTTP to the collector at an endpoint, such as http://127.0.0.1:4318.
//
// share of the requests are followed, from 0 to 1, and besides each call whose caller follows it (the header
// traceparent of W3C).
func New(ctx context.Context, endpoint string, share float64) (*Traces, error) {
	u, err := url.Parse(endpoint)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "http" && u.Scheme != "https" {
		return nil, errors.New("send traces: a collector is at an address like http://127.0.0.1:4318, with no " +
			"password in it; OTEL_EXPORTER_OTLP_HEADERS has what it asks for")
	}
	if !(share >= 0 && share <= 1) {
		return nil, fmt.Errorf("follow a share of %g of the requests: it is from 0 to 1", share)
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces"
	}
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(u.String()))
	if err != nil {
		return nil, fmt.Errorf("send traces to %s: %w", u.Host, err)
	}
	version := "unknown"
	if info, known := debug.ReadBuildInfo(); known {
		version = info.Main.Version
	}
	logLimit := rate.NewLimiter(rate.Every(time.Minute), 1)
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) {
		if logLimit.Allow() {
			slog.Warn("traces cannot be sent; they are dropped", "error", err)
		}
	}))
	provider := sdk.NewTracerProvider(
		sdk.WithBatcher(exporter, sdk.WithBatchTimeout(time.Second)),
		sdk.WithSampler(sdk.ParentBased(sdk.TraceIDRatioBased(share))),
		sdk.WithResource(resource.NewSchemaless(
			attribute.String("service.name", "kamerad"),
			attribute.String("service.version", version),
		)),
	)
	return &Traces{provider: provider, tracer: provider.Tracer("kamerad.example/service")}, nil
}

// Close sends what is left, until ctx ends.
func (t *Traces) Close(ctx context.Context) error {
	if t == nil {
		return nil
	}
	if err := t.provider.Shutdown(ctx); err != nil {
		return fmt.Errorf("send the last traces: %w", err)
	}
	return nil
}

// Calls follows calls of the HTTP API that a router of chi answers. Sockets, which stay open, are left out.
func (t *Traces) Calls(next http.Handler) http.Handler {
	if t == nil {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") != "" {
			next.ServeHTTP(w, r)
			return
		}
		ctx := t.headers.Extract(r.Context(), propagation.HeaderCarrier(r.Header))
		ctx, span := t.tracer.Start(ctx, r.Method, trace.WithSpanKind(trace.SpanKindServer))
		defer span.End()
		if !span.IsRecording() {
			next.ServeHTTP(w, r.WithContext(ctx))
			return
		}
		answer := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		r = r.WithContext(ctx)
		next.ServeHTTP(answer, r)
		status := max(answer.Status(), http.StatusOK)
		route := chi.RouteContext(ctx).RoutePattern() // with no value: those may be names of players
		span.SetName(r.Method + " " + route)
		span.SetAttributes(
			attribute.String("http.request.method", r.Method),
			attribute.String("http.route", route),
			attribute.Int("http.response.status_code", status),
			attribute.String("kamerad.call", w.Header().Get(middleware.RequestIDHeader)),
		)
		if status >= http.StatusInternalServerError {
			span.SetStatus(codes.Error, http.StatusText(status))
		}
	})
}

// maxFollowed is how many requests of a session are followed at once.
const maxFollowed = 1024

// Requests follow the requests of one session's clients. One goroutine owns it; a nil *Requests follows nothing.
type Requests struct {
	traces  *Traces
	session []attribute.KeyValue // what all of the session's spans say
	waiting map[requestKey]*followed
}

// requestKey names a request: a client counts its own.
type requestKey struct {
	client int
	seq    uint64
}

// followed is a request that is followed and not decided yet.
type followed struct {
	ctx  context.Context
	span trace.Span
	at   time.Time
}

// Session returns what follows the requests of a session.
func (t *Traces) Session(id int64, contract string) *Requests {
	if t == nil {
		return nil
	}
	return &Requests{
		traces: t,
		session: []attribute.KeyValue{
			attribute.Int64("kamerad.session", id),
			attribute.String("kamerad.contract", contract),
		},
		waiting: map[requestKey]*followed{},
	}
}

// Asked begins to follow a request that was read at a time. name is the contract's, empty for one that it does not
// have.
func (r *Requests) Asked(client int, seq uint64, name string, at time.Time) {
	if r == nil || len(r.waiting) >= maxFollowed {
		return
	}
	if name == "" {
		name = "unknown request"
	}
	ctx, span := r.traces.tracer.Start(
		context.Background(), name, trace.WithTimestamp(at), trace.WithSpanKind(trace.SpanKindServer),
	)
	if !span.IsRecording() {
		return
	}
	span.SetAttributes(r.session...)
	span.SetAttributes(
		attribute.Int("kamerad.client", client),
		attribute.Int64("kamerad.seq", int64(min(seq, math.MaxInt64))),
	)
	r.waiting[requestKey{client, seq}] = &followed{ctx, span, at}
}

// Times are those of a tick: when it began, had computed, and had handed its frames to whoever writes them.
type Times struct{ Began, Computed, Sent time.Time }

// forgetAfter is how long a request is followed that is never decided: its client has gone.
const forgetAfter = time.Minute

// Decided ends the requests that a tick has decided.
func (r *Requests) Decided(tick int64, decisions []session.Decision, t Times) {
	if r == nil || len(r.waiting) == 0 {
		return
	}
	for i := range decisions {
		d := &decisions[i]
		key := requestKey{d.Client.Number, d.Ask.Seq}
		f := r.waiting[key]
		if f == nil {
			continue
		}
		delete(r.waiting, key)
		r.stretch(f, "wait for the tick", f.at, t.Began)
		r.stretch(f, "compute the tick", t.Began, t.Computed)
		r.stretch(f, "hand over its frames", t.Computed, t.Sent)
		f.span.SetAttributes(
			attribute.Int64("kamerad.tick", tick),
			attribute.String("kamerad.outcome", string(d.Outcome)),
			attribute.String("kamerad.stage", string(d.Stage)),
			attribute.Int("kamerad.line", d.Line),
		)
		f.span.End(trace.WithTimestamp(t.Sent))
	}
	for key, f := range r.waiting {
		if t.Sent.Sub(f.at) > forgetAfter {
			delete(r.waiting, key)
			f.span.SetAttributes(attribute.String("kamerad.outcome", "never decided"))
			f.span.End(trace.WithTimestamp(t.Sent))
		}
	}
}

// stretch tells of a part of a request's way.
func (r *Requests) stretch(f *followed, name string, from, to time.Time) {
	if to.Before(from) {
		to = from
	}
	_, span := r.traces.tracer.Start(f.ctx, name, trace.WithTimestamp(from))
	span.End(trace.WithTimestamp(to))
}
