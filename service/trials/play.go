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
	"kamerad.example/service/observe"
	"kamerad.example/service/problems"
	"kamerad.example/store"
)

// Bounds of a drill that is played at once.
const (
	maxPlayTime  = 30 * time.Second
	maxPlayTicks = 2400 // that are told of, the last ones
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
			r := observe.NewPlayback(version.Contract, version.Version, max(0, effect.Played.Ticks-ticks))
			if err := effect.Played.Play(limit, c, audit.Options{Seed: report.Seed}, r); err != nil {
				return api.PlayedDrill{}, problems.BadRequest(err.Error())
			}
			if !r.IsFull() || ticks <= 1 {
				return api.PlayedDrill{Result: api.Encode(effect), Messages: r.Messages()}, nil
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
		r := observe.NewPlayback(version.Contract, version.Version, max(0, result.Ticks-ticks))
		r.Tamper = o.Tamper
		o.Observer = r
		if _, err := d.Run(ctx, o); err != nil {
			return api.PlayedDrill{}, err
		}
		if !r.IsFull() || ticks <= 1 {
			return api.PlayedDrill{Result: api.Encode(result), Messages: r.Messages()}, nil
		}
	}
}
