package trials

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"kamerad.example/api"
	"kamerad.example/core/audit"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/service/observe"
	"kamerad.example/service/problems"
	"kamerad.example/store"
)

// Bounds of a drill that is played at once.
const (
	maxPlayTime  = 30 * time.Second
	maxPlayTicks = 2400     // that are told of, the last ones
	maxPlayBytes = 16 << 20 // of messages; over it fewer ticks are told of
)

// Play runs one drill at once and returns what who watches it would have seen. The error of one that cannot be run is a
// *problems.Refusal.
func (t *Trials) Play(ctx context.Context, version store.Version, in api.PlayDrill) (api.PlayedDrill, error) {
	list, err := loadDrills(version, in.Drills)
	if err != nil {
		return api.PlayedDrill{}, err
	}
	var d *drill.Drill
	var names []string
	for _, x := range list {
		names = append(names, x.Name)
		if x.Name == in.Drill {
			d = x
		}
	}
	if d == nil {
		return api.PlayedDrill{}, &problems.Refusal{
			Status: http.StatusNotFound, Detail: fmt.Sprintf("there is no drill %.80q", in.Drill), Known: names,
		}
	}
	options := drill.Options{Seed: in.Seed}
	if len(in.Shaken) > 0 {
		options.Shaken = &drill.Shaking{}
		if err := json.Unmarshal(in.Shaken, options.Shaken); err != nil {
			return api.PlayedDrill{}, problems.BadRequest("read how the links are shaken: " + err.Error())
		}
		if err := options.Shaken.Check(); err != nil {
			return api.PlayedDrill{}, problems.BadRequest(err.Error())
		}
	}
	out, err := t.inTurn(ctx, func(limit context.Context) (api.PlayedDrill, error) {
		return play(limit, version, d, options)
	})
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		err = problems.BadRequest(
			fmt.Sprintf("the drill %q takes more than %s; run it as a trial", d.Name, maxPlayTime),
		)
	}
	return out, err
}

// inTurn plays something once it is its turn, for maxPlayTime at most.
func (t *Trials) inTurn(
	ctx context.Context, f func(limit context.Context) (api.PlayedDrill, error),
) (api.PlayedDrill, error) {
	select {
	case t.playing <- struct{}{}:
		defer func() { <-t.playing }()
	case <-ctx.Done():
		return api.PlayedDrill{}, ctx.Err()
	}
	limit, cancel := context.WithTimeout(ctx, maxPlayTime)
	defer cancel()
	return f(limit)
}

// PlayEffect plays the shortest run of the nth effect that an audit found, from 1, and returns what who watches it
// would have seen; the result is the effect. The error of one that cannot be played is a *problems.Refusal.
func (t *Trials) PlayEffect(ctx context.Context, of api.Trial, version store.Version, n int) (api.PlayedDrill, error) {
	var report audit.Report
	if of.What != "audit" || json.Unmarshal(of.Report, &report) != nil {
		return api.PlayedDrill{}, problems.BadRequest(fmt.Sprintf("trial %d is no audit that has ended", of.ID))
	}
	if n < 1 || n > len(report.Causes) || report.Causes[n-1].Played == nil {
		return api.PlayedDrill{}, &problems.Refusal{
			Status: http.StatusNotFound,
			Detail: fmt.Sprintf("audit %d has no run of an effect %d that can be played", of.ID, n),
		}
	}
	effect := report.Causes[n-1]
	c, mistakes := compile.LoadWith(version.Contract+".kam", version.Source, contract.Files(version.Files).Open)
	if c == nil {
		return api.PlayedDrill{}, &problems.Refusal{
			Status: http.StatusUnprocessableEntity, Detail: "this version cannot be read any more", Mistakes: mistakes,
		}
	}
	return t.inTurn(ctx, func(limit context.Context) (api.PlayedDrill, error) {
		for ticks := int64(maxPlayTicks); ; ticks /= 2 {
			r := &recorder{version: version, from: max(0, effect.Played.Ticks-ticks)}
			if err := effect.Played.Play(limit, c, audit.Options{Seed: report.Seed}, r); err != nil {
				return api.PlayedDrill{}, problems.BadRequest(err.Error())
			}
			if r.bytes <= maxPlayBytes || ticks <= 1 {
				return api.PlayedDrill{Result: api.Encode(effect), Messages: r.messages}, nil
			}
		}
	})
}

// play runs a drill twice: to know how long it is, and then to tell of its last ticks.
func play(ctx context.Context, version store.Version, d *drill.Drill, o drill.Options) (api.PlayedDrill, error) {
	result, err := d.Run(ctx, o)
	if err != nil {
		return api.PlayedDrill{}, err
	}
	for ticks := int64(maxPlayTicks); ; ticks /= 2 {
		r := &recorder{version: version, from: max(0, result.Ticks-ticks), tamper: o.Tamper}
		o.Observer = r
		if _, err := d.Run(ctx, o); err != nil {
			return api.PlayedDrill{}, err
		}
		if r.bytes <= maxPlayBytes || ticks <= 1 {
			return api.PlayedDrill{Result: api.Encode(result), Messages: r.messages}, nil
		}
	}
}

// recorder keeps what a run's watcher is told, from a tick on. It is a session.Observer.
type recorder struct {
	version  store.Version
	from     int64
	tamper   func(client int, f *wire.Frame) *wire.Frame
	observer *observe.Observer
	faults   observe.FaultList
	follower *observe.Follower // nil until the run has come to from
	messages []json.RawMessage
	bytes    int
}

// Began makes the observer of the run's session.
func (r *recorder) Began(s *session.Session) {
	r.observer = observe.New(s)
	r.begin(s)
}

// begin follows the run from here on, once it has come to the tick from which it is told of.
func (r *recorder) begin(s *session.Session) {
	if r.follower != nil || s.Now() < r.from {
		return
	}
	r.follower = r.observer.Begin()
	r.follower.Tamper = r.tamper
	sheet := r.follower.Sheet(r.observer.Now())
	sheet.Session = &api.Session{
		Contract: r.version.Contract,
		Version:  r.version.Version,
		Tick:     s.Now(),
		Clients:  s.Clients(),
		Faults:   r.faults.Summary(),
	}
	r.keep(&sheet)
}

// keep adds a message, while there is room.
func (r *recorder) keep(m *api.Watch) {
	raw := api.Encode(m)
	r.bytes += len(raw)
	if r.bytes <= maxPlayBytes {
		r.messages = append(r.messages, raw)
	}
}

// Joined notes that a client has joined.
func (r *recorder) Joined(client int) { r.observer.Joined(client) }

// Left notes that a client has left.
func (r *recorder) Left(client int) { r.observer.Left(client) }

// Arrived notes that a client has applied a frame.
func (r *recorder) Arrived(client int, tick int64) { r.observer.Holds(client, tick) }

// Ticked keeps what there is to tell of a tick.
func (r *recorder) Ticked(step *session.Step) {
	faults := r.faults.Note(r.observer.Session(), step)
	if moment := r.observer.Tick(step, len(faults) > 0); moment != nil {
		if len(faults) > 0 {
			moment.Faults = r.faults.Summary()
		}
		if msg := r.follower.Tick(moment); msg != nil {
			r.keep(msg)
		}
	}
	r.begin(r.observer.Session())
}
