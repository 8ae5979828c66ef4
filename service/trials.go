package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-chi/chi/v5"

	"kamerad.example/client"
	"kamerad.example/core/audit"
	"kamerad.example/core/drill"
	"kamerad.example/core/syntax"
	"kamerad.example/store"
)

// Bounds of trials, which share the machine with the sessions.
const (
	maxTrials      = 16 // that wait or run
	maxTrialFiles  = 100
	maxTrialDrills = 1000
	maxTrialShake  = 1000
	maxTrialRounds = 1000
	maxTrialTicks  = 10_000
	maxTrialTime   = 30 * time.Minute
	trialNice      = 10 // of the thread that one runs on: sessions come first
)

// trials are those that wait or run. One runs at a time.
type trials struct {
	turn    chan struct{} // held by the one that runs
	mu      sync.Mutex
	running map[int64]*trial
	wg      sync.WaitGroup

	starting int // that are being stored
	stopping bool
}

// trial is one that waits or runs.
type trial struct {
	row     store.Trial
	cancel  context.CancelFunc
	running atomic.Bool
	done    atomic.Int64
	of      int
	// run does it, and gives its report, whether it is as it should be, and that in a few words.
	run func(ctx context.Context, done func()) (report any, passed bool, summary string, err error)
}

// startTrial begins a drill, an audit or another trial of a version and returns at once.
func (v *Service) startTrial(r *http.Request) (client.Trial, error) {
	var in client.StartTrial
	if err := read(r, &in); err != nil {
		return client.Trial{}, err
	}
	n, err := numbered(chi.URLParam(r, "version"))
	if err != nil {
		return client.Trial{}, err
	}
	version, err := v.find(r, chi.URLParam(r, "name"), n)
	if err != nil {
		return client.Trial{}, err
	}
	if in.Seed == 0 {
		in.Seed = 1
	}
	x := &trial{row: store.Trial{
		Contract: version.Contract,
		Version:  version.Version,
		What:     in.What,
		Asked:    encode(in),
	}}
	switch in.What {
	case "drills":
		err = x.ofDrills(version, in)
	case "audit":
		err = x.ofAudit(version, in)
	default:
		err = &badRequest{fmt.Sprintf("a trial is of drills or an audit, not %.40q", in.What)}
	}
	if err != nil {
		return client.Trial{}, err
	}
	failpoints.trialChecked.Hit()
	if err := v.trials.reserve(); err != nil {
		return client.Trial{}, err
	}
	row, err := v.store.AddTrial(r.Context(), x.row)
	v.trials.mu.Lock()
	defer v.trials.mu.Unlock()
	defer v.trials.wg.Done() // of the one that is being started
	v.trials.starting--
	if err != nil {
		return client.Trial{}, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	x.row = row
	x.cancel = cancel
	v.trials.running[row.ID] = x
	if v.trials.stopping {
		cancel() // it is stored as one that was stopped before it began
	}
	v.trials.wg.Go(func() { v.runTrial(ctx, x) })
	return v.trialOf(row), nil
}

// reserve counts a trial that is to be started.
func (t *trials) reserve() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.stopping {
		return errStopping
	}
	if n := len(t.running) + t.starting; n >= maxTrials {
		return &refusal{
			status: http.StatusTooManyRequests,
			detail: fmt.Sprintf("%d trials wait or run already; more have to wait", n),
		}
	}
	t.starting++
	t.wg.Add(1)
	return nil
}

// ofDrills makes a trial of drills. They may call the contract by whatever file name they were written with, and what
// it includes as it does.
func (x *trial) ofDrills(version store.Version, in client.StartTrial) error {
	if in.Shake < 0 || in.Shake > maxTrialShake {
		return &badRequest{fmt.Sprintf("drills are shaken at most %d times here, not %d", maxTrialShake, in.Shake)}
	}
	if len(in.Drills) == 0 || len(in.Drills) > maxTrialFiles {
		return &badRequest{
			fmt.Sprintf(
				"a trial of drills is given 1 to %d files of drills by name, not %d", maxTrialFiles, len(in.Drills),
			),
		}
	}
	main := ""
	open := func(name string) (string, error) {
		if text, ok := version.Files[name]; ok {
			return text, nil
		}
		if !strings.HasSuffix(name, ".kam") || main != "" && main != name {
			return "", fmt.Errorf(
				"version %d of %s has no file %.80q beside it", version.Version, version.Contract, name,
			)
		}
		main = name
		return version.Source, nil
	}
	var list []*drill.Drill
	var problems syntax.Problems
	for _, name := range slices.Sorted(maps.Keys(in.Drills)) {
		if !filepath.IsLocal(name) {
			return &badRequest{fmt.Sprintf("the file name %.80q leads out of its folder", name)}
		}
		drills, wrong := drill.Load(name, in.Drills[name], open)
		list = append(list, drills...)
		problems = append(problems, wrong...)
	}
	if len(problems) > 0 {
		return &refusal{
			status:   http.StatusUnprocessableEntity,
			detail:   fmt.Sprintf("the drills have %s; none was run", count(len(problems), "mistake")),
			problems: problems,
		}
	}
	if len(list) > maxTrialDrills {
		return &badRequest{fmt.Sprintf("a trial is of at most %d drills, not %d", maxTrialDrills, len(list))}
	}
	x.of = len(list) * max(in.Shake, 1)
	x.run = func(ctx context.Context, done func()) (any, bool, string, error) {
		began := time.Now()
		r, err := drill.All(ctx, list, drill.Round{Shake: in.Shake, Seed: in.Seed, Run: done})
		if err != nil {
			return nil, false, "", err
		}
		r.Seconds = time.Since(began).Seconds()
		summary := count(r.Passed, "drill") + " passed"
		if r.Failed > 0 {
			summary = fmt.Sprintf("%s failed, %d passed", count(r.Failed, "drill"), r.Passed)
		}
		if in.Shake > 0 {
			summary += fmt.Sprintf(", over %d random links each", in.Shake)
		}
		return r, r.Failed == 0, summary, nil
	}
	return nil
}

// ofAudit makes the trial an audit of a version.
func (x *trial) ofAudit(version store.Version, in client.StartTrial) error {
	if in.Rounds < 0 || in.Rounds > maxTrialRounds || in.Ticks < 0 || in.Ticks > maxTrialTicks {
		return &badRequest{
			fmt.Sprintf("an audit has at most %d rounds of %d ticks here", maxTrialRounds, maxTrialTicks),
		}
	}
	if len(in.Drills) > 0 || in.Shake != 0 {
		return &badRequest{"an audit takes no drills and is not shaken"}
	}
	c, problems := load(version)
	if c == nil {
		return &refusal{
			status:   http.StatusUnprocessableEntity,
			detail:   "this version cannot be read any more",
			problems: problems,
		}
	}
	if in.Rounds == 0 {
		in.Rounds = audit.UsualRounds
	}
	if in.Ticks == 0 {
		in.Ticks = audit.UsualTicks
	}
	x.of = in.Rounds
	x.run = func(ctx context.Context, done func()) (any, bool, string, error) {
		r, err := audit.Run(ctx, c, audit.Options{
			Seed:     in.Seed,
			Rounds:   in.Rounds,
			Ticks:    in.Ticks,
			Findings: problems,
			Each:     func(int) { done() },
		})
		if err != nil {
			return nil, false, "", err
		}
		summary := fmt.Sprintf("%d attacks: %s, %s learned and %d not varied, %s, %.1f %% of the cells filled",
			r.Tried, count(
				r.Effects, "effect",
			), count(r.Learned, "value"), r.Unread(), count(len(r.Findings), "finding"), 100*r.Filled)
		return r, r.Clean(), summary, nil
	}
	return nil
}

// runTrial waits for a trial's turn, runs it and keeps what came of it.
func (v *Service) runTrial(ctx context.Context, x *trial) {
	defer func() {
		x.cancel()
		v.trials.mu.Lock()
		delete(v.trials.running, x.row.ID)
		v.trials.mu.Unlock()
	}()
	row := x.row
	end := func(state string, passed *bool, summary string, report any) {
		now := time.Now()
		row.State = state
		row.EndedAt = &now
		row.Passed = passed
		row.Summary = summary
		if report != nil {
			row.Report = encode(report)
		}
		keep, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := v.store.SetTrial(keep, row); err != nil {
			slog.Error("what came of a trial could not be kept", "trial", row.ID, "error", err)
		}
	}
	select {
	case v.trials.turn <- struct{}{}:
		if ctx.Err() != nil {
			<-v.trials.turn
			end("stopped", nil, "it was stopped before it began", nil)
			return
		}
	case <-ctx.Done():
		end("stopped", nil, "it was stopped before it began", nil)
		return
	}
	defer func() { <-v.trials.turn }()
	row.State = "running"
	x.running.Store(true)
	if err := v.store.SetTrial(ctx, row); err != nil {
		slog.Warn("a trial's beginning could not be kept", "trial", row.ID, "error", err)
	}
	slog.Info("a trial began", "trial", row.ID, "of", row.What, "contract", row.Contract, "version", row.Version)
	limit, cancel := context.WithTimeout(ctx, maxTrialTime)
	defer cancel()
	report, passed, summary, err := x.runIsolated(limit)
	switch {
	case ctx.Err() != nil:
		end("stopped", nil, fmt.Sprintf("it was stopped after %d of %d", x.done.Load(), x.of), nil)
	case errors.Is(err, context.DeadlineExceeded):
		end("failed", nil, fmt.Sprintf("it was not done in %s: %d of %d", maxTrialTime, x.done.Load(), x.of), nil)
	case err != nil:
		end("failed", nil, err.Error(), nil)
	default:
		end("ended", &passed, summary, report)
	}
	slog.Info("a trial ended", "trial", row.ID, "state", row.State, "summary", row.Summary)
}

// runIsolated runs a trial on a thread of its own that gives way to the sessions' ones. A panic is an error of the
// trial alone.
func (x *trial) runIsolated(ctx context.Context) (report any, passed bool, summary string, err error) {
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer func() {
			if p := recover(); p != nil {
				err = fmt.Errorf("the trial failed inside: %v", p)
			}
		}()
		// and never unlocked: the thread ends with the goroutine, since nothing makes it less nice again
		runtime.LockOSThread()
		giveWay(trialNice)
		report, passed, summary, err = x.run(ctx, func() { x.done.Add(1) })
	}()
	<-ended
	return report, passed, summary, err
}

// stopTrials stops all, and waits until what came of them is kept.
func (v *Service) stopTrials(ctx context.Context) error {
	v.trials.mu.Lock()
	v.trials.stopping = true
	for _, x := range v.trials.running {
		x.cancel()
	}
	v.trials.mu.Unlock()
	over := make(chan struct{})
	go func() { v.trials.wg.Wait(); close(over) }()
	select {
	case <-over:
		return nil
	case <-ctx.Done():
		return errors.New("stop the trials: one did not end")
	}
}

// trialOf returns a stored trial as the API gives it.
func (v *Service) trialOf(row store.Trial) client.Trial {
	out := client.Trial{
		ID:       row.ID,
		Contract: row.Contract,
		Version:  row.Version,
		What:     row.What,
		State:    row.State,
		AskedAt:  row.AskedAt,
		EndedAt:  row.EndedAt,
		Passed:   row.Passed,
		Summary:  row.Summary,
		Report:   row.Report,
	}
	return out
}

// progress puts in how far a trial is that waits or runs; the lock is held.
func (t *trials) progress(out *client.Trial) {
	if x := t.running[out.ID]; x != nil && !out.Over() {
		out.Done = int(x.done.Load())
		out.Of = x.of
		if x.running.Load() {
			out.State = "running"
		}
	}
}

// listTrials lists trials, newest first.
func (v *Service) listTrials(r *http.Request) ([]client.Trial, error) {
	n, err := numbered(chi.URLParam(r, "version"))
	if err != nil {
		return nil, err
	}
	version, err := v.find(r, chi.URLParam(r, "name"), n)
	if err != nil {
		return nil, err
	}
	rows, err := v.store.Trials(r.Context(), version.Contract, version.Version, 100)
	out := []client.Trial{}
	v.trials.mu.Lock()
	defer v.trials.mu.Unlock()
	for _, row := range rows {
		t := v.trialOf(row)
		v.trials.progress(&t)
		out = append(out, t)
	}
	return out, err
}

// trial returns one trial with its result.
func (v *Service) trial(r *http.Request) (client.Trial, error) {
	text := chi.URLParam(r, "trial")
	id, err := strconv.ParseInt(text, 10, 64)
	if err == nil {
		var row store.Trial
		row, err = v.store.Trial(r.Context(), id)
		if err == nil {
			t := v.trialOf(row)
			v.trials.mu.Lock()
			defer v.trials.mu.Unlock()
			v.trials.progress(&t)
			return t, nil
		}
		if !errors.Is(err, store.ErrNotFound) {
			return client.Trial{}, err
		}
	}
	return client.Trial{}, &refusal{status: http.StatusNotFound, detail: fmt.Sprintf("there is no trial %.40s", text)}
}

// stopTrial ends a trial that runs; what it found so far is kept.
func (v *Service) stopTrial(r *http.Request) (client.Trial, error) {
	t, err := v.trial(r)
	if err != nil || t.Over() {
		return t, err
	}
	v.trials.mu.Lock()
	if x := v.trials.running[t.ID]; x != nil {
		x.cancel()
	}
	v.trials.mu.Unlock()
	return t, nil
}
