// Package api has the types of the service's HTTP API, which the service and those who call it share, and a Client that
// calls it. It computes nothing of a contract and plays no session: for that there is package client.
//
// A Client is an address; its methods may be called by any number of goroutines, and what they return is the caller's
// own. An error of the service is a *Problem (RFC 9457). Watch follows a session over a WebSocket, and a Socket is the
// client's end of such a one.
//
//	service := api.Client{Service: "http://127.0.0.1:7707"}
//	v, err := service.Publish(ctx, "tidewreck.kam", source, files)
//	s, err := service.Open(ctx, api.OpenSession{Contract: v.Contract})
//	err = service.Watch(ctx, s.ID, func(w api.Watch) error { return nil })
//
// Fields are added and never renamed or given another meaning: whoever reads them has to skip those that it does not
// know.
package api

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"

	"github.com/gorilla/websocket"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// Client calls the API of a service. The zero value is not useful: set Service to its address.
type Client struct {
	Service string // such as http://127.0.0.1:7707
	Token   string // of the operator; empty for a service that wants none
	// TLS says which certificates are believed; nil for those that the system believes.
	TLS *tls.Config
	// HTTP makes the calls, but for sockets; nil for one that keeps connections open for all Clients of an address.
	HTTP *http.Client
}

// httpClients are what calls are made with that believe certificates of their own: one for each such set.
var httpClients sync.Map // of *http.Client by *tls.Config

// http returns what makes the calls.
func (c Client) http() *http.Client {
	switch {
	case c.HTTP != nil:
		return c.HTTP
	case c.TLS == nil:
		return http.DefaultClient
	}
	if made, known := httpClients.Load(c.TLS); known {
		return made.(*http.Client)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = c.TLS
	made, _ := httpClients.LoadOrStore(c.TLS, &http.Client{Transport: transport})
	return made.(*http.Client)
}

// authorize adds the operator's token to the headers of a call.
func (c Client) authorize(h http.Header) {
	if c.Token != "" {
		h.Set("Authorization", "Bearer "+c.Token)
	}
}

// call sends in as JSON, unless it is nil, and reads the answer into out, unless that is nil.
func (c Client) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	answer, err := c.send(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
		return fmt.Errorf("%s %s: read the answer: %w", method, path, err)
	}
	return nil
}

// send sends a body, nil for none, and returns an answer that says that all went well: its body has to be closed.
func (c Client) send(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.Service, "/")+path, body)
	if err != nil {
		return nil, fmt.Errorf("read the service's address: %w", err)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	c.authorize(req.Header)
	answer, err := c.http().Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, fmt.Errorf("reach the service at %s: %w; is it running? `kamerad serve` starts it", c.Service, err)
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	if p := readProblem(answer.Body); p != nil {
		return nil, p
	}
	return nil, fmt.Errorf("%s %s: the service answered %s", method, path, answer.Status)
}

// Outline returns what clients of a session are given of its contract.
func (c Client) Outline(ctx context.Context, session int64) (*contract.Outline, error) {
	var out contract.Outline
	err := c.call(ctx, "GET", fmt.Sprintf("/api/sessions/%d/outline", session), nil, &out)
	return &out, err
}

// Publish stores a contract's text as its next version, with the texts of the files that it includes. A text with
// mistakes is not stored: the error is a *Problem that lists them.
func (c Client) Publish(
	ctx context.Context, file, source string, files map[string]string,
) (v ContractVersion, err error) {
	err = c.call(ctx, "POST", "/api/contracts", PublishContract{File: file, Source: source, Files: files}, &v)
	return v, err
}

// Contracts returns the newest version of each contract.
func (c Client) Contracts(ctx context.Context) (out []ContractVersion, err error) {
	err = c.call(ctx, "GET", "/api/contracts", nil, &out)
	return out, err
}

// Versions returns the versions of a contract, newest first.
func (c Client) Versions(ctx context.Context, name string) (out []ContractVersion, err error) {
	err = c.call(ctx, "GET", "/api/contracts/"+url.PathEscape(name), nil, &out)
	return out, err
}

// Version reads a version with its source; 0 is the newest.
func (c Client) Version(ctx context.Context, name string, version int) (v ContractVersion, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/api/contracts/%s/versions/%d", url.PathEscape(name), version), nil, &v)
	return v, err
}

// Open opens a session.
func (c Client) Open(ctx context.Context, o OpenSession) (s Session, err error) {
	err = c.call(ctx, "POST", "/api/sessions", o, &s)
	return s, err
}

// Sessions returns the open sessions, then the newest of those that are closed.
func (c Client) Sessions(ctx context.Context) (out []Session, err error) {
	err = c.call(ctx, "GET", "/api/sessions", nil, &out)
	return out, err
}

// ServiceState says how the service gets on.
func (c Client) ServiceState(ctx context.Context) (s ServiceState, err error) {
	err = c.call(ctx, "GET", "/api/service", nil, &s)
	return s, err
}

// Session reads one session.
func (c Client) Session(ctx context.Context, id int64) (s Session, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/api/sessions/%d", id), nil, &s)
	return s, err
}

// OpenTestClient opens a client within the service, which anybody may play by AskAs. It leaves when the session closes.
func (c Client) OpenTestClient(ctx context.Context, session int64, name, role string) (test wire.Client, err error) {
	in := OpenTestClient{Name: name, Role: role}
	err = c.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/clients", session), in, &test)
	return test, err
}

// AskAs sends a request as a test client, whatever it is, and returns its decision. entity 0 means the one of a shared
// kind, or the client's own.
func (c Client) AskAs(
	ctx context.Context, session int64, test int, entity uint32, request string, args ...json.RawMessage,
) (d wire.Decision, err error) {
	in := Ask{Entity: entity, Request: request, Args: args}
	err = c.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/clients/%d/ask", session, test), in, &d)
	return d, err
}

// Hold presses a hold as a test client and keeps it pressed, or releases it.
func (c Client) Hold(ctx context.Context, session int64, test int, h Hold) (out Held, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/clients/%d/hold", session, test), h, &out)
	return out, err
}

// Write writes a property as a test client. The server answers only what it refuses: who watches is told.
func (c Client) Write(ctx context.Context, session int64, test int, w Write) (out Written, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/clients/%d/write", session, test), w, &out)
	return out, err
}

// LinkOf returns what the link of a test client is like.
func (c Client) LinkOf(ctx context.Context, session int64, test int) (Link, error) {
	var out Link
	err := c.call(ctx, "GET", fmt.Sprintf("/api/sessions/%d/clients/%d/link", session, test), nil, &out)
	return out, err
}

// SetLink changes what the link of a test client is like, for what is sent from now on.
func (c Client) SetLink(ctx context.Context, session int64, test int, l Link) (Link, error) {
	var out Link
	err := c.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/clients/%d/link", session, test), l, &out)
	return out, err
}

// Close ends a session; its clients are told the reason.
func (c Client) Close(ctx context.Context, id int64, reason string) (s Session, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/close", id), CloseSession{Reason: &reason}, &s)
	return s, err
}

// DrillOf writes a drill of a session that was opened with a seed: it does again what clients have done, and expects
// what came of it. name is what it is called, file that of the contract beside it.
func (c Client) DrillOf(ctx context.Context, id int64, name, file string) (d WrittenDrill, err error) {
	err = c.call(
		ctx, "GET", fmt.Sprintf("/api/sessions/%d/drill?%s", id, url.Values{"name": {name}, "file": {file}}.Encode()),
		nil, &d,
	)
	return d, err
}

// DrillStretch is a part of a recording of which a drill is written, and what the drill calls what lies beside it.
type DrillStretch struct {
	From, To  int64  // ticks; To is 0 for the recording's end
	Name      string // of the drill
	Contract  string // its file
	Recording string // its file: an export up to the tick From
}

// DrillOfStretch writes a drill that begins from a recording at a tick, does again what clients have done until another
// one, and expects what came of it.
func (c Client) DrillOfStretch(ctx context.Context, id int64, s DrillStretch) (d WrittenDrill, err error) {
	query := url.Values{
		"from":      {strconv.FormatInt(s.From, 10)},
		"to":        {strconv.FormatInt(s.To, 10)},
		"name":      {s.Name},
		"file":      {s.Contract},
		"recording": {s.Recording},
	}
	err = c.call(ctx, "GET", fmt.Sprintf("/api/recordings/%d/drill?%s", id, query.Encode()), nil, &d)
	return d, err
}

// Pause stops a session's clock, or lets it run again.
func (c Client) Pause(ctx context.Context, id int64, paused bool) (s Session, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/pause", id), PauseSession{Paused: &paused}, &s)
	return s, err
}

// Step runs ticks of a paused session.
func (c Client) Step(ctx context.Context, id int64, ticks int) (s Session, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/step", id), StepSession{Ticks: &ticks}, &s)
	return s, err
}

// Decisions returns the newest stored decisions of a session, newest first.
func (c Client) Decisions(ctx context.Context, id int64, limit int) (out []Decision, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/api/sessions/%d/decisions?limit=%d", id, limit), nil, &out)
	return out, err
}

// StartTrial starts a trial of a version; 0 is the newest version. Drills with mistakes give a *Problem that lists
// them.
func (c Client) StartTrial(ctx context.Context, contract string, version int, s StartTrial) (t Trial, err error) {
	err = c.call(
		ctx, "POST", fmt.Sprintf("/api/contracts/%s/versions/%d/trials", url.PathEscape(contract), version), s, &t,
	)
	return t, err
}

// Trials returns the newest trials of a version, newest first; 0 is the newest version.
func (c Client) Trials(ctx context.Context, contract string, version int) (out []Trial, err error) {
	err = c.call(
		ctx, "GET", fmt.Sprintf("/api/contracts/%s/versions/%d/trials", url.PathEscape(contract), version), nil, &out,
	)
	return out, err
}

// Trial reads a trial, with its report once it has ended.
func (c Client) Trial(ctx context.Context, id int64) (t Trial, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("/api/trials/%d", id), nil, &t)
	return t, err
}

// StopTrial ends a trial that waits or runs.
func (c Client) StopTrial(ctx context.Context, id int64) (t Trial, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/api/trials/%d/stop", id), nil, &t)
	return t, err
}

// maxWatchMessage is how long a message to those who watch may be, in bytes.
const maxWatchMessage = 16 << 20

// Watch follows a session: f is called with each message until it returns an error, ctx ends or the session closes.
func (c Client) Watch(ctx context.Context, id int64, f func(Watch) error) error {
	u, err := url.Parse(c.Service)
	if err != nil {
		return fmt.Errorf("read the service's address: %w", err)
	}
	u.Scheme = strings.Replace(u.Scheme, "http", "ws", 1)
	u.Path = fmt.Sprintf("/api/sessions/%d/watch", id)
	header := http.Header{}
	c.authorize(header)
	socket, err := DialWebSocket(ctx, u.String(), WatchProtocol, Dialing{
		MaxMessage: maxWatchMessage,
		Header:     header,
		TLS:        c.TLS,
	})
	if err != nil {
		return fmt.Errorf("watch session %d: %w", id, err)
	}
	defer socket.Close(websocket.CloseNormalClosure, "done")
	for {
		raw, err := socket.Read(ctx)
		if err != nil {
			return fmt.Errorf("watch session %d: %w", id, err)
		}
		var w Watch
		if err := json.Unmarshal(raw, &w); err != nil {
			return fmt.Errorf("watch session %d: read a message: %w", id, err)
		}
		if err := f(w); err != nil || w.Type == WatchClose {
			return err
		}
	}
}
