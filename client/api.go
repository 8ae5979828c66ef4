package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"kamerad.example/core/contract"
	"kamerad.example/core/report"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// WatchProtocol is the WebSocket sub-protocol of watching a session.
const WatchProtocol = "kamerad.watch.v1"

// Problem is an error answer of the service (RFC 9457). Known lists what exists when something was not found; Problems
// the mistakes of a contract.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	// of a client that was not seated: why, for programs; see docs/protocol.md
	Code     string          `json:"code,omitempty"`
	Known    []string        `json:"known,omitempty"`
	Problems syntax.Problems `json:"problems,omitempty"`
}

// Error words the problem with what exists instead.
func (p *Problem) Error() string {
	text := p.Detail
	if len(p.Known) > 0 {
		text += "; there is " + strings.Join(p.Known, ", ")
	}
	return text
}

// ServiceState tells how a service gets on.
type ServiceState struct {
	Held                bool `json:"held"`         // the database is this service's; else it opens no session
	RecordsAway         bool `json:"records_away"` // records could not be stored when that was last tried
	RecordsWaiting      int  `json:"records_waiting"`
	RecordsWaitingBytes int  `json:"records_waiting_bytes"`
	// seats and accepted requests that were given up, since it started
	RecordsDropped int64 `json:"records_dropped"`
	RefusedDropped int64 `json:"refused_dropped"` // other requests that were given up
	SessionsFailed int64 `json:"sessions_failed"` // that were closed since they failed inside
}

// ContractVersion is a published version of a contract. Source and Outline are empty in lists.
type ContractVersion struct {
	Contract    string            `json:"contract"`
	Version     int               `json:"version"`
	Fingerprint string            `json:"fingerprint"`
	PublishedAt time.Time         `json:"published_at"`
	Source      string            `json:"source,omitempty"`
	Files       map[string]string `json:"files,omitempty"` // what the source includes
	Outline     *contract.Outline `json:"outline,omitempty"`
	Fresh       bool              `json:"fresh"`              // in the answer to publish: a new version was made
	Findings    syntax.Problems   `json:"findings,omitempty"` // in the answer to publish, and of one version
}

// Report is what is computed of a version when it is published, and kept with it.
type Report struct {
	Fingerprint string            `json:"fingerprint"`
	Findings    syntax.Problems   `json:"findings"`
	Matrix      *report.Matrix    `json:"matrix"`
	Cost        *report.Cost      `json:"cost"`    // with 16 clients, or as many as have seats
	Outline     *contract.Outline `json:"outline"` // what clients are given
}

// ReportOf computes the report of a contract and of the warnings that it was read with.
func ReportOf(c *contract.Contract, findings syntax.Problems) Report {
	if findings == nil {
		findings = syntax.Problems{}
	}
	cost, _ := report.NewCost(c, min(c.Seats, 16), nil) // within all bounds
	outline := c.Outline()
	return Report{outline.Fingerprint(), findings, report.NewMatrix(c), cost, outline}
}

// Session is a session as the service tells of it. Clients and what follows are only there while it runs.
type Session struct {
	ID          int64         `json:"id"`
	Contract    string        `json:"contract"`
	Version     int           `json:"version"`
	OpenedAt    time.Time     `json:"opened_at"`
	ClosedAt    *time.Time    `json:"closed_at,omitempty"`
	CloseReason string        `json:"close_reason,omitempty"`
	Open        bool          `json:"open"`
	Busy        bool          `json:"busy,omitempty"` // its tick takes long: what stands here is of a short while ago
	Tick        int64         `json:"tick"`
	Paused      bool          `json:"paused"`
	Memory      int64         `json:"memory_bytes"`   // that its entities take, and what clients are told of them
	MemoryMost  int64         `json:"memory_most"`    // that they may take
	Slow        *Slowness     `json:"slow,omitempty"` // its ticks have taken too long within the last minute
	Faults      *Faults       `json:"faults,omitempty"`
	Seed        uint64        `json:"seed,omitempty"` // that it was opened with
	Queued      int           `json:"queued"`         // inputs that wait for the next tick
	Clients     []wire.Client `json:"clients"`
}

// Slowness says how a session's ticks took longer than there is between two.
type Slowness struct {
	Ticks int     `json:"ticks"` // that did
	Ms    float64 `json:"ms"`    // how long the longest of them took
	Of    string  `json:"of"`    // what took most of one, such as "a timer of Diver"; empty when no body did
}

// Faults tells what of a contract failed inside since its session was opened, and what was undone for it: handlers,
// timers, actions, writes and requests.
type Faults struct {
	Count int64   `json:"count"`
	Last  []Fault `json:"last"` // the last ones, the newest first, each once; 8 at most
}

// Fault is one thing that failed, for one reason in one line.
type Fault struct {
	Tick  int64  `json:"tick"` // when it last failed
	Times int64  `json:"times"`
	In    string `json:"in"` // the body that failed, such as "timer of Diver"
	File  string `json:"file"`
	Line  int    `json:"line"`
	// the entity with some of its values, or the client; of the last time that it was told
	About  string `json:"about,omitempty"`
	Reason string `json:"reason"`
}

// OpenSession says what to open. Version 0 is the newest. Key is 64 hexadecimal digits that make the numbering of
// entities repeatable; without one the service makes a random one. It is never given back.
type OpenSession struct {
	Contract string `json:"contract"`
	Version  int    `json:"version,omitempty"`
	Key      string `json:"key,omitempty"`
	// Seed, in place of a key, is where the session's dice come from, as a drill's do: for exercises. Whoever knows it
	// can foretell every roll. What clients do is noted, so that DrillOf can write a drill of it.
	Seed   uint64 `json:"seed,omitempty"`
	Paused bool   `json:"paused,omitempty"` // no ticks but by Step
	// Settings are values of the contract's settings by name; those that are not named have their defaults.
	Settings map[string]json.RawMessage `json:"settings,omitempty"`
}

// Decision is a decided request, with everything that those who run the session may know of it.
type Decision struct {
	Tick      int64           `json:"tick"`
	Client    wire.Client     `json:"client"`
	Seq       uint64          `json:"seq"`
	Request   string          `json:"request"`
	Entity    uint32          `json:"entity"`
	Owner     int             `json:"owner"` // of the entity
	Args      json.RawMessage `json:"args"`
	Outcome   wire.Outcome    `json:"outcome"`
	Stage     wire.Stage      `json:"stage"`
	Reason    string          `json:"reason"`
	CheckText string          `json:"check_text"` // the check that decided
	Line      int             `json:"line"`       // of the contract
	Changes   []Change        `json:"changes"`
	Told      []string        `json:"told"`
	Reply     json.RawMessage `json:"reply,omitempty"`
	At        *time.Time      `json:"at,omitempty"`
}

// Change is what an accepted request changed.
type Change struct {
	Entity   uint32          `json:"entity"`
	Kind     string          `json:"kind"`
	Owner    int             `json:"owner"`
	Property string          `json:"property"`
	Old      json.RawMessage `json:"old"`
	New      json.RawMessage `json:"new"`
}

// Told is an event and whom it was told.
type Told struct {
	Event   json.RawMessage `json:"event"`
	Clients []int           `json:"clients"`
}

// Watch is a message to those who watch a session. The first has the type sheet and holds everything; those of the type
// tick hold what changed; close is the last.
type Watch struct {
	Type      string            `json:"type"`
	Session   *Session          `json:"session,omitempty"` // sheet
	Outline   *contract.Outline `json:"outline,omitempty"` // sheet: the full one
	Tick      int64             `json:"tick"`
	Server    json.RawMessage   `json:"server,omitempty"` // a frame of all that the server holds, or of what changed
	Clients   []WatchClient     `json:"clients"`          // sheet: all; tick: those with something new
	Left      []int             `json:"left,omitempty"`
	Decisions []Decision        `json:"decisions"`
	Told      []Told            `json:"told"`
	Faults    *Faults           `json:"faults,omitempty"` // tick: all of them, when something failed in it
	Reason    string            `json:"reason,omitempty"` // close
}

// WatchClient tells of one client: the frames that it has confirmed since the last message make its copy what it is.
type WatchClient struct {
	wire.Client
	Test bool  `json:"test"` // opened through the API
	Seen int64 `json:"seen"` // newest tick that it has confirmed
	Sent int64 `json:"sent"` // newest tick that it was sent
	// oldest tick that it was sent and has not confirmed; 0 if there is none
	Waits  int64             `json:"waits,omitempty"`
	Frames []json.RawMessage `json:"frames,omitempty"`
	// Differences is how often its copy was not what it should be; each time it was sent anew.
	Differences int `json:"differences,omitempty"`
}

// API is the service's administration. The zero value is not useful: set Service to its address.
type API struct {
	Service string // such as http://127.0.0.1:7707
}

// Outline returns what clients of a session are given of its contract.
func (a API) Outline(ctx context.Context, session int64) (*contract.Outline, error) {
	var out contract.Outline
	err := a.call(ctx, "GET", fmt.Sprintf("/api/sessions/%d/outline", session), nil, &out)
	return &out, err
}

// readProblem returns the error that an answer describes (RFC 9457).
func readProblem(body io.Reader) error {
	raw, _ := io.ReadAll(io.LimitReader(body, 1<<20))
	var p Problem
	if json.Unmarshal(raw, &p) != nil || p.Status == 0 {
		return nil
	}
	return &p
}

// call sends in as JSON, unless it is nil, and reads the answer into out, unless that is nil.
func (a API) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(a.Service, "/")+path, body)
	if err != nil {
		return fmt.Errorf("read the service's address: %w", err)
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return fmt.Errorf("reach the service at %s: %w; is it running? `kamerad serve` starts it", a.Service, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		if p := readProblem(answer.Body); p != nil {
			return p
		}
		return fmt.Errorf("%s %s: the service answered %s", method, path, answer.Status)
	}
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
		return fmt.Errorf("%s %s: read the answer: %w", method, path, err)
	}
	return nil
}

// Publish stores a contract's text as its next version, with the texts of the files that it includes. A text with
// mistakes gives a *Problem that lists them.
func (a API) Publish(ctx context.Context, file, source string, files map[string]string) (v ContractVersion, err error) {
	err = a.call(ctx, "POST", "/api/contracts", map[string]any{"file": file, "source": source, "files": files}, &v)
	return v, err
}

// Contracts returns the newest version of each contract.
func (a API) Contracts(ctx context.Context) (out []ContractVersion, err error) {
	err = a.call(ctx, "GET", "/api/contracts", nil, &out)
	return out, err
}

// Versions returns the versions of a contract, newest first.
func (a API) Versions(ctx context.Context, name string) (out []ContractVersion, err error) {
	err = a.call(ctx, "GET", "/api/contracts/"+url.PathEscape(name), nil, &out)
	return out, err
}

// Version reads a version with its source; 0 is the newest.
func (a API) Version(ctx context.Context, name string, version int) (v ContractVersion, err error) {
	err = a.call(ctx, "GET", fmt.Sprintf("/api/contracts/%s/versions/%d", url.PathEscape(name), version), nil, &v)
	return v, err
}

// Open opens a session.
func (a API) Open(ctx context.Context, o OpenSession) (s Session, err error) {
	err = a.call(ctx, "POST", "/api/sessions", o, &s)
	return s, err
}

// Sessions returns the open sessions, then the newest of those that are closed.
func (a API) Sessions(ctx context.Context) (out []Session, err error) {
	err = a.call(ctx, "GET", "/api/sessions", nil, &out)
	return out, err
}

// Session reads one session.
func (a API) Session(ctx context.Context, id int64) (s Session, err error) {
	err = a.call(ctx, "GET", fmt.Sprintf("/api/sessions/%d", id), nil, &s)
	return s, err
}

// Link says what the link of a test client is like, the same in both directions.
type Link struct {
	DelayMs   float64 `json:"delay_ms"`  // of each message, from 0 to 30,000
	JitterMs  float64 `json:"jitter_ms"` // up to so much more
	Loss      float64 `json:"loss"`      // how likely a message is lost and sent again, from 0 to 0.95
	Reorder   float64 `json:"reorder"`   // how likely a loose message is held up behind later ones, from 0 to 1
	Bandwidth int     `json:"bandwidth"` // bytes a second; 0 for any
	// nothing passes; the client comes back once this is false, if its seat still waits
	Cut bool `json:"cut"`
}

// LinkOf returns what the link of a test client is like.
func (a API) LinkOf(ctx context.Context, session int64, test int) (Link, error) {
	var out Link
	err := a.call(ctx, "GET", fmt.Sprintf("/api/sessions/%d/clients/%d/link", session, test), nil, &out)
	return out, err
}

// SetLink changes what the link of a test client is like, for what is sent from now on.
func (a API) SetLink(ctx context.Context, session int64, test int, l Link) (Link, error) {
	var out Link
	err := a.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/clients/%d/link", session, test), l, &out)
	return out, err
}

// Close ends a session; its clients are told the reason.
func (a API) Close(ctx context.Context, id int64, reason string) (s Session, err error) {
	err = a.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/close", id), map[string]string{"reason": reason}, &s)
	return s, err
}

// WrittenDrill is a drill that was written of what clients did.
type WrittenDrill struct {
	Text string `json:"text"`
	Left int    `json:"left"` // messages that no drill can say; they stand in it as comments
}

// DrillOf writes a drill of a session that was opened with a seed: it does again what clients have done, and expects
// what came of it. name is what it is called, file that of the contract beside it.
func (a API) DrillOf(ctx context.Context, id int64, name, file string) (d WrittenDrill, err error) {
	err = a.call(
		ctx, "GET", fmt.Sprintf("/api/sessions/%d/drill?%s", id, url.Values{"name": {name}, "file": {file}}.Encode()),
		nil, &d,
	)
	return d, err
}

// Pause stops a session's clock, or lets it run again.
func (a API) Pause(ctx context.Context, id int64, paused bool) (s Session, err error) {
	err = a.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/pause", id), map[string]bool{"paused": paused}, &s)
	return s, err
}

// Step runs ticks of a paused session.
func (a API) Step(ctx context.Context, id int64, ticks int) (s Session, err error) {
	err = a.call(ctx, "POST", fmt.Sprintf("/api/sessions/%d/step", id), map[string]int{"ticks": ticks}, &s)
	return s, err
}

// Decisions returns the newest stored decisions of a session, newest first.
func (a API) Decisions(ctx context.Context, id int64, limit int) (out []Decision, err error) {
	err = a.call(ctx, "GET", fmt.Sprintf("/api/sessions/%d/decisions?limit=%d", id, limit), nil, &out)
	return out, err
}

// Watch follows a session: f is called with each message until it returns an error, ctx ends or the session closes.
func (a API) Watch(ctx context.Context, id int64, f func(Watch) error) error {
	u, err := url.Parse(a.Service)
	if err != nil {
		return fmt.Errorf("read the service's address: %w", err)
	}
	u.Scheme = strings.Replace(u.Scheme, "http", "ws", 1)
	u.Path = fmt.Sprintf("/api/sessions/%d/watch", id)
	t, err := dial(ctx, u.String(), WatchProtocol)
	if err != nil {
		return fmt.Errorf("watch session %d: %w", id, err)
	}
	defer t.Close("done")
	for {
		raw, err := t.Read(ctx)
		if err != nil {
			return fmt.Errorf("watch session %d: %w", id, err)
		}
		var w Watch
		if err := json.Unmarshal(raw, &w); err != nil {
			return fmt.Errorf("watch session %d: read a message: %w", id, err)
		}
		if err := f(w); err != nil || w.Type == "close" {
			return err
		}
	}
}
