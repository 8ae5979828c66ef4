package httpapi

import (
	"bytes"
	"context"
	"io"
	"net/http"

	"kamerad.example/auth"
)

// insideTransport answers calls of this process by the handler itself, as somebody who may do everything.
type insideTransport struct {
	handler http.Handler
	name    string
}

// Inside returns a transport for calls that this process makes to itself: it needs no socket, no certificate and no
// token. name is who they are noted to be of.
func Inside(handler http.Handler, name string) http.RoundTripper {
	return insideTransport{handler, name}
}

// insideKey is where the context of a call of this process has its operator.
type insideKey struct{}

// RoundTrip answers a call.
func (t insideTransport) RoundTrip(r *http.Request) (*http.Response, error) {
	who := auth.Operator{Name: t.name, Right: auth.Run}
	r = r.Clone(context.WithValue(r.Context(), insideKey{}, who))
	if r.Body == nil {
		r.Body = http.NoBody
	}
	r.Host = "127.0.0.1"
	out := insideAnswer{header: http.Header{}, status: http.StatusOK}
	t.handler.ServeHTTP(&out, r)
	return &http.Response{
		StatusCode: out.status,
		Status:     http.StatusText(out.status),
		Proto:      "HTTP/1.1",
		ProtoMajor: 1,
		ProtoMinor: 1,
		Header:     out.header,
		Body:       io.NopCloser(&out.body),
		Request:    r,
	}, nil
}

// insideAnswer keeps an answer.
type insideAnswer struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (a *insideAnswer) Header() http.Header         { return a.header }
func (a *insideAnswer) WriteHeader(status int)      { a.status = status }
func (a *insideAnswer) Write(p []byte) (int, error) { return a.body.Write(p) }
