package api

import (
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"time"

	"kamerad.example/core/contract"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
)

// Codes say, for programs, why a client was not seated. Those of package session's RefusalCode come beside them.
const (
	CodeNoSocket     = "no_socket"     // the request asks for no WebSocket
	CodeNoProtocol   = "no_protocol"   // it asks for neither sub-protocol
	CodeTokenSpent   = "token_spent"   // no seat waits for the token
	CodeOtherOutline = "other_outline" // the client was made for another outline
	CodeNotRunning   = "not_running"   // the session has closed or never was
	CodeBusy         = "busy"          // the session has not come to it in time
	// what the player keeps is in another session
	CodePlayerElsewhere = "player_elsewhere"
	// what the player keeps cannot be read now
	CodeKeptUnavailable = "kept_unavailable"
	CodeTooMany         = "too_many"       // its address is over a limit
	CodeBanned          = "banned"         // the player is banned
	CodeNoJoin          = "no_join"        // the first message did not come, or is no `join`
	CodeServiceFailed   = "service_failed" // the service could not do it
)

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

// Error returns the problem as text, with what exists instead.
func (p *Problem) Error() string {
	text := p.Detail
	if len(p.Known) > 0 {
		text += "; there is " + strings.Join(p.Known, ", ")
	}
	return text
}

// readProblem returns the *Problem that an answer describes (RFC 9457), or nil when it describes none.
func readProblem(body io.Reader) error {
	raw, _ := io.ReadAll(io.LimitReader(body, 1<<20))
	var p Problem
	if json.Unmarshal(raw, &p) != nil || p.Status == 0 {
		return nil
	}
	return &p
}

// ServiceState says how a service gets on.
type ServiceState struct {
	Held                bool `json:"held"`         // the database is this service's; else it opens no session
	RecordsAway         bool `json:"records_away"` // records could not be stored when that was last tried
	RecordsWaiting      int  `json:"records_waiting"`
	RecordsWaitingBytes int  `json:"records_waiting_bytes"`
	// seats and accepted requests that were given up, since it started
	RecordsDropped int64 `json:"records_dropped"`
	RefusedDropped int64 `json:"refused_dropped"` // other requests that were given up
	SessionsFailed int64 `json:"sessions_failed"` // that were closed since they failed inside
	// what sessions record could not be stored when that was last tried: nothing that players keep is settled then
	RecordingsAway         bool `json:"recordings_away"`
	RecordingsWaitingBytes int  `json:"recordings_waiting_bytes"`
	RecordingGaps          int  `json:"recording_gaps"` // how often calls of a session were given up
	// the setting of the database for which nothing is ever called settled, such as `fsync is off`; empty for none
	NeverSettled string `json:"never_settled,omitempty"`
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
	Settings    []ContractSetting `json:"settings,omitempty"` // of one version: what a session may be opened with
}

// PublishContract is a contract's text, to be checked and stored as the next version of its name.
type PublishContract struct {
	File   string            `json:"file,omitempty"` // that mistakes name; contract.kam without one
	Source string            `json:"source"`
	Files  map[string]string `json:"files,omitempty"` // what the source includes, by path
}

// ContractSetting is a setting of a contract. Default is in the JSON form of its type.
type ContractSetting struct {
	Name    string          `json:"name"`
	Type    *contract.Type  `json:"type"`
	Default json.RawMessage `json:"default"`
	Public  bool            `json:"public,omitempty"` // clients get its value
}

// Session is a session as the service tells of it. Clients and what follows are only there while it runs.
type Session struct {
	ID          int64      `json:"id"`
	Contract    string     `json:"contract"`
	Version     int        `json:"version"`
	OpenedAt    time.Time  `json:"opened_at"`
	ClosedAt    *time.Time `json:"closed_at,omitempty"`
	CloseReason string     `json:"close_reason,omitempty"`
	// Result is what the session came to, of the type that its contract declares; nil for none.
	Result     json.RawMessage `json:"result,omitempty"`
	Open       bool            `json:"open"`
	Busy       bool            `json:"busy,omitempty"` // its tick takes long: what stands here is of a short while ago
	Tick       int64           `json:"tick"`
	Paused     bool            `json:"paused"`
	Memory     int64           `json:"memory_bytes"`   // that its entities take, and what clients are told of them
	MemoryMost int64           `json:"memory_most"`    // that they may take
	Slow       *Slowness       `json:"slow,omitempty"` // its ticks have taken too long within the last minute
	Faults     *Faults         `json:"faults,omitempty"`
	Seed       uint64          `json:"seed,omitempty"`  // that it was opened with
	World      string          `json:"world,omitempty"` // the same
	Queued     int             `json:"queued"`          // inputs that wait for the next tick
	Clients    []wire.Client   `json:"clients"`
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
	// World names what keeps shared kinds' kept properties from session to session; empty for nothing. It is in one
	// session at a time.
	World string `json:"world,omitempty"`
	// Settings are values of the contract's settings by name; those that are not named have their defaults.
	Settings map[string]json.RawMessage `json:"settings,omitempty"`
}

// CloseSession says why a session ends.
type CloseSession struct {
	Reason *string `json:"reason,omitempty"` // of 1 to 100 characters; without one it is closed by hand
}

// PauseSession says whether a session's clock stands.
type PauseSession struct {
	Paused *bool `json:"paused,omitempty"` // true without one
}

// StepSession says how many ticks a paused session is to run.
type StepSession struct {
	Ticks *int `json:"ticks,omitempty"` // 1 to 10,000; 1 without one
}

// Seat is one who has or had a seat in a session.
type Seat struct {
	wire.Client
	JoinedAt   time.Time  `json:"joined_at"`
	LeftAt     *time.Time `json:"left_at,omitempty"`
	LeftReason string     `json:"left_reason,omitempty"`
}

// Slowness says how a session's ticks took longer than there is between two.
type Slowness struct {
	Ticks int     `json:"ticks"` // that did
	Ms    float64 `json:"ms"`    // how long the longest of them took
	Of    string  `json:"of"`    // what took most of one, such as "a timer of Diver"; empty when no body did
}

// Faults says what of a contract failed inside since its session was opened, and what was undone for it: handlers,
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
	// Checks is what came of the request's checks, of a decision that a watcher is told of
	Checks []DecisionCheck `json:"checks,omitempty"`
	Reply  json.RawMessage `json:"reply,omitempty"`
	At     *time.Time      `json:"at,omitempty"`
}

// DecisionCheck is what came of one check: passed, failed, or not reached since another one failed before it.
type DecisionCheck struct {
	Text   string          `json:"text"`
	Line   int             `json:"line"`
	Result string          `json:"result"`
	Values []DecisionValue `json:"values,omitempty"` // that it read
}

// DecisionValue is a value as a check saw it.
type DecisionValue struct {
	Name  string          `json:"name"`
	Value json.RawMessage `json:"value"`
	Words string          `json:"words"` // the value as text
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

// Told is an event, in which tick it was told, and to whom.
type Told struct {
	Tick    int64           `json:"tick"`
	Event   json.RawMessage `json:"event"`
	Clients []int           `json:"clients"`
}

// Arrivals says in which tick each client, by its number, had confirmed a tick. Who was there and is missing has not.
type Arrivals struct {
	Tick    int64         `json:"tick"`
	Clients map[int]int64 `json:"clients"`
}

// WatchProtocol is the WebSocket sub-protocol of watching a session.
const WatchProtocol = "kamerad.watch.v1"

// WatchType is the type of a message to those who watch a session.
type WatchType string

// The types of messages to those who watch.
const (
	WatchSheet WatchType = "sheet" // the first one: everything
	WatchTick  WatchType = "tick"  // what changed
	WatchClose WatchType = "close" // the last one: why nothing more comes
)

// Watch is a message to those who watch a session. The first has the type sheet and holds everything; those of the type
// tick hold what changed; close is the last.
type Watch struct {
	Type    WatchType         `json:"type"`
	Session *Session          `json:"session,omitempty"` // sheet
	Outline *contract.Outline `json:"outline,omitempty"` // sheet: the full one
	Tick    int64             `json:"tick"`
	Server  json.RawMessage   `json:"server,omitempty"` // a frame of all that the server holds, or of what changed
	Clients []WatchClient     `json:"clients"`          // sheet: all; tick: those with something new
	// what the clients' frames consist of: what several of them hold alike stands here once
	Blocks    []json.RawMessage `json:"blocks,omitempty"`
	Left      []int             `json:"left,omitempty"`
	Decisions []Decision        `json:"decisions"`
	Told      []Told            `json:"told"`
	Refused   []Refused         `json:"refused,omitempty"` // tick: writes and holds that were not carried out
	Logs      []LogLine         `json:"logs,omitempty"`    // tick: what was logged, on every side
	// sheet: when clients had the last ticks with decisions, oldest first
	Arrivals []Arrivals `json:"arrivals,omitempty"`
	Traffic  *Traffic   `json:"traffic,omitempty"` // tick: once a second, of all ticks since the last
	Load     *Load      `json:"load,omitempty"`    // tick: once a second
	Faults   *Faults    `json:"faults,omitempty"`  // tick: all of them, when something failed in it
	Reason   string     `json:"reason,omitempty"`  // close
}

// WatchFrame is a frame of a client with its state alone: decisions and events are told apart.
type WatchFrame struct {
	Tick     int64 `json:"tick"`
	Snapshot bool  `json:"snapshot,omitempty"`
	State    []int `json:"state,omitempty"` // which of the message's Blocks
}

// Frame returns a frame of one of the message's clients as the protocol has it in JSON. The error says that the frame
// names a block that the message does not have.
func (m *Watch) Frame(f WatchFrame) (json.RawMessage, error) {
	out := struct {
		Type     string            `json:"type"`
		Tick     int64             `json:"tick"`
		Snapshot bool              `json:"snapshot,omitempty"`
		State    []json.RawMessage `json:"state,omitempty"`
	}{Type: "frame", Tick: f.Tick, Snapshot: f.Snapshot}
	for _, i := range f.State {
		if i < 0 || i >= len(m.Blocks) {
			return nil, fmt.Errorf("the frame of tick %d is to have block %d of %d", f.Tick, i, len(m.Blocks))
		}
		out.State = append(out.State, m.Blocks[i])
	}
	return Encode(out), nil
}

// Traffic is what clients sent and were sent in the ticks up to Tick, as it went through their sockets: WebSocket
// headers are counted, those of TCP and handshakes are not. Of a client that speaks JSON the binary frames count, that
// say the same.
type Traffic struct {
	Tick    int64        `json:"tick"`
	Ticks   int          `json:"ticks"`
	Clients []int        `json:"clients"` // whose amounts stand in each row, in this order; 0 is all others together
	Rows    []TrafficRow `json:"rows"`
}

// UsageSocket is what WebSocket adds to messages; its counts are those of the messages.
const UsageSocket wire.UsageType = "websocket"

// Load says how long the ticks of the last second took.
type Load struct {
	MeanMs    float64 `json:"mean_ms"`
	LongestMs float64 `json:"longest_ms"`
	PeriodMs  float64 `json:"period_ms"` // that there is between two ticks
	Queued    int     `json:"queued"`    // inputs that wait for the next tick
}

// TrafficRow is what was spent on one thing, by client.
type TrafficRow struct {
	Up bool `json:"up,omitempty"` // by clients; else to them
	wire.UsageItem
	Bits   []int64 `json:"bits"`
	Counts []int64 `json:"counts"` // of values, entities, events, messages
}

// WatchClient describes one client: the frames that it has confirmed since the last message make its copy what it is.
type WatchClient struct {
	wire.Client
	Test bool `json:"test"` // opened through the API
	// Lost says that its connection is lost, and that its seat waits for another one
	Lost bool  `json:"lost,omitempty"`
	Seen int64 `json:"seen"` // newest tick that it has confirmed
	Sent int64 `json:"sent"` // newest tick that it was sent
	// oldest tick of which it has not confirmed everything, or was not sent everything for want of bytes; 0 for none
	Waits  int64        `json:"waits,omitempty"`
	Bytes  *Bytes       `json:"bytes,omitempty"` // of a client with a limit of bytes
	Frames []WatchFrame `json:"frames,omitempty"`
	// Differences is how often its copy was not what it should be; each time it was sent anew.
	Differences int `json:"differences,omitempty"`
}

// Bytes says how a client with a limit of bytes stands.
type Bytes struct {
	Limit   int `json:"limit"`   // that it is sent in any second at most
	Sent    int `json:"sent"`    // in the last second
	Waiting int `json:"waiting"` // entities of which something has not been sent
}

// OpenTestClient asks for a client within the service.
type OpenTestClient struct {
	Name string `json:"name"`
	Role string `json:"role,omitempty"` // the first role that the contract names without one
}

// Ask has a test client send a request. Entity 0 is the one of a shared kind, or the client's own.
type Ask struct {
	Entity  uint32            `json:"entity,omitempty"`
	Request string            `json:"request"`
	Args    []json.RawMessage `json:"args,omitempty"` // in the JSON forms of the parameters' types
}

// Hold asks a test client to press a hold and keep it pressed, or to release it. Entity 0 is the one of a shared kind,
// or the client's own.
type Hold struct {
	Entity   uint32 `json:"entity,omitempty"`
	Property string `json:"property"` // Kind.name
	Release  bool   `json:"release,omitempty"`
}

// Held says whether a hold is kept pressed now.
type Held struct {
	Pressed bool `json:"pressed"`
}

// Write asks a test client to write a property. Entity is as in Hold.
type Write struct {
	Entity   uint32          `json:"entity,omitempty"`
	Property string          `json:"property"`
	Value    json.RawMessage `json:"value"`
}

// Written is the number of a write, which a refusal carries.
type Written struct {
	Seq uint64 `json:"seq"`
}

// Refused is a write, press or release that was not carried out.
type Refused struct {
	Tick     int64        `json:"tick"`
	Client   wire.Client  `json:"client"`
	Type     string       `json:"type"` // write, press or release
	Property string       `json:"property"`
	Outcome  wire.Outcome `json:"outcome"`
	Reason   string       `json:"reason"`
}

// LogLine is a line that the contract logged for clients, or that a client sent up. Side is the number of the client
// that sent it, 0 for the contract.
type LogLine struct {
	Tick    int64  `json:"tick"`
	Side    int    `json:"side"`
	Seen    int64  `json:"seen,omitempty"` // of a client's: the tick that its copy was at
	Text    string `json:"text"`
	Clients []int  `json:"clients,omitempty"` // of the contract's: who gets it
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

// WrittenDrill is a drill that was written of what clients did.
type WrittenDrill struct {
	Text string `json:"text"`
	Left int    `json:"left"` // messages that no drill can say; they stand in it as comments
}

// Expect asks for a line in the drill of a session that was opened with a seed: that the client sees what it sees now
// of a property, or does not see it. Client 0 is the server.
type Expect struct {
	Client   int    `json:"client"`
	Entity   uint32 `json:"entity"`
	Property string `json:"property"`
}

// Expected is the line that the drill got, and the tick after which it stands.
type Expected struct {
	Tick int64  `json:"tick"`
	Line string `json:"line"`
}

// StartTrial asks for a run of drills, or of the audit, on a published version. The service does one after the other,
// in the background.
type StartTrial struct {
	What string `json:"what"` // drills or audit
	// texts by file name. All name the contract alike after `use`, and are run on the published one
	Drills map[string]string `json:"drills,omitempty"`
	Shake  int               `json:"shake,omitempty"`  // each drill over so many random links, up to 1,000
	Seed   uint64            `json:"seed,omitempty"`   // 0 for 1
	Rounds int               `json:"rounds,omitempty"` // of an audit, up to 1,000; 0 for 24
	Ticks  int               `json:"ticks,omitempty"`  // of each round, up to 10,000; 0 for 500
}

// PlayDrill asks for one drill to be run at once, to look at it as at a session. Drills are texts by file name, as in
// StartTrial, Drill is the name of the one to run.
type PlayDrill struct {
	Drills map[string]string `json:"drills"`
	Drill  string            `json:"drill"`
	Seed   uint64            `json:"seed,omitempty"`   // in place of the drill's own
	Shaken json.RawMessage   `json:"shaken,omitempty"` // a drill.Shaking: how its links are shaken; none when empty
}

// PlayedDrill is a run of a drill. Messages are what a watcher of the session would have been told from one tick on,
// which is the first one when the run is not too long: a sheet, then ticks.
type PlayedDrill struct {
	Result   json.RawMessage   `json:"result"` // a drill.Result
	Messages []json.RawMessage `json:"messages"`
}

// Trial is a run of drills, or of the audit, and what came of it.
type Trial struct {
	ID       int64      `json:"id"`
	Contract string     `json:"contract"`
	Version  int        `json:"version"`
	What     string     `json:"what"`
	State    string     `json:"state"` // waiting, running, ended, stopped or failed
	Done     int        `json:"done"`  // runs of drills, or rounds of the audit
	Of       int        `json:"of"`
	AskedAt  time.Time  `json:"asked_at"`
	EndedAt  *time.Time `json:"ended_at,omitempty"`
	Passed   *bool      `json:"passed,omitempty"`
	Summary  string     `json:"summary"`
	// Asked is with what; not in lists
	Asked  *StartTrial     `json:"asked,omitempty"`
	Report json.RawMessage `json:"report,omitempty"` // a drill.Report or an audit.Report; not in lists
}

// Over reports whether nothing more comes.
func (t Trial) Over() bool { return t.State != "waiting" && t.State != "running" }

// Encode returns what is sent, which is plain data, as JSON.
func Encode(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil { // only what a client sent could be at fault, and that was read as JSON before
		slog.Error("a message could not be worded", "error", err)
		return []byte("null")
	}
	return raw
}

// Recording is what is kept of a session, so that it can be played again.
type Recording struct {
	Session     int64      `json:"session"`
	Contract    string     `json:"contract"`
	Version     int        `json:"version"`
	OpenedAt    time.Time  `json:"opened_at"`
	ClosedAt    *time.Time `json:"closed_at,omitempty"`
	Engine      int        `json:"engine"` // the version of what it means; 0 for a session that was not recorded
	Wire        int        `json:"wire"`   // the revision of the protocol
	LastTick    int64      `json:"last_tick"`
	Batches     int64      `json:"batches"`
	Bytes       int64      `json:"bytes"` // compressed, with its checkpoints
	Checkpoints int64      `json:"checkpoints"`
	Gaps        int64      `json:"gaps"`
}

// Replay says up to which tick a session is to be played again.
type Replay struct {
	To int64 `json:"to,omitempty"` // 0 is its end
}

// SetKept gives a player, or a world, other values of what it keeps of a contract.
type SetKept struct {
	Contract string                     `json:"contract"`
	Values   map[string]json.RawMessage `json:"values"` // by the properties' full names, such as Diver.score
}

// Replayed is what came of playing a session again.
type Replayed struct {
	Session int64   `json:"session"`
	Tick    int64   `json:"tick"`  // the last one that was played
	Ticks   int64   `json:"ticks"` // how many were
	Seconds float64 `json:"seconds"`
	Digest  string  `json:"digest"`            // of all frames
	Differs string  `json:"differs,omitempty"` // what was not as it was then; empty when every frame was the same
}

// PastState is what the server or a client held at a tick.
type PastState struct {
	Tick  int64           `json:"tick"`
	Sent  int64           `json:"sent,omitempty"` // of a client: the tick of its last frame
	State json.RawMessage `json:"state"`
}

// Kept is what a player keeps of a contract.
type Kept struct {
	Contract  string                     `json:"contract"`
	Player    string                     `json:"player"`
	Values    map[string]json.RawMessage `json:"values"`            // by the properties' full names
	Session   int64                      `json:"session,omitempty"` // that has them now
	ChangedAt time.Time                  `json:"changed_at"`
}

// Forgotten says what became of the recordings of a player who is forgotten.
type Forgotten struct {
	Kept     int64   `json:"deleted"`            // contracts of which what they kept is gone
	Nameless int     `json:"nameless"`           // recordings that have no name of theirs any more
	Deleted  int     `json:"recordings_deleted"` // that could not be played again without the name
	Open     []int64 `json:"open"`               // sessions that are open, and still have the name
}

// Stretch says which ticks of a recording were played.
type Stretch struct {
	Session int64 `json:"session"`
	From    int64 `json:"from"` // the tick before the first one
	To      int64 `json:"to"`
	Last    int64 `json:"last"` // of the recording
}
