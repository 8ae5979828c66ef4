// Package trials runs drills and audits of published versions in the background, one after the other, beside the
// sessions. It opens no session of the service.
//
// Start checks what is asked for and queues it, Get says how far it is and in the end what came of it, End stops one,
// and Stop ends the goroutine that runs them. Results are stored by Records; a trial that was under way when the
// service ended is stored as ended.
package trials

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kamerad.example/api"
	"kamerad.example/core/audit"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/syntax"
	"kamerad.example/service/problems"
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

// Records keep trials.
type Records interface {
	AddTrial(ctx context.Context, t store.Trial) (store.Trial, error)
	SetTrial(ctx context.Context, t store.Trial) error
	Trial(ctx context.Context, id int64) (store.Trial, error)
	Trials(ctx context.Context, contract string, version, limit int) ([]store.Trial, error)
}

// Trials are those that wait or run. One runs at a time.
type Trials struct {
	records Records
	turn    chan struct{} // held by the one that runs
	playing chan struct{} // held by the drill that is played at once
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

// New returns trials that are kept in records; none runs.
func New(records Records) *Trials {
	return &Trials{
		records: records,
		turn:    make(chan struct{}, 1),
		playing: make(chan struct{}, 1),
		running: map[int64]*trial{},
	}
}

// Start begins a drill, an audit or another trial of a version and returns at once. The error of one that cannot be
// begun is a *problems.Refusal.
func (t *Trials) Start(ctx context.Context, version store.Version, in api.StartTrial) (api.Trial, error) {
	if in.Seed == 0 {
		in.Seed = 1
	}
	var err error
	x := &trial{row: store.Trial{
		Contract: version.Contract,
		Version:  version.Version,
		What:     in.What,
		Asked:    api.Encode(in),
	}}
	switch in.What {
	case "drills":
		err = x.ofDrills(version, in)
	case "audit":
		err = x.ofAudit(version, in)
	default:
		err = problems.BadRequest(fmt.Sprintf("a trial is of drills or an audit, not %.40q", in.What))
	}
	if err != nil {
		return api.Trial{}, err
	}
	Failpoints.TrialChecked.Hit()
	if err := t.reserve(); err != nil {
		return api.Trial{}, err
	}
	row, err := t.records.AddTrial(ctx, x.row)
	t.mu.Lock()
	defer t.mu.Unlock()
	defer t.wg.Done() // of the one that is being started
	t.starting--
	if err != nil {
		return api.Trial{}, err
	}
	running, cancel := context.WithCancel(context.Background())
	x.row = row
	x.cancel = cancel
	t.running[row.ID] = x
	if t.stopping {
		cancel() // it is stored as one that was stopped before it began
	}
	t.wg.Go(func() { t.run(running, x) })
	return trialOf(row), nil
}

// reserve counts a trial that is to be started.
func (t *Trials) reserve() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.stopping {
		return problems.ErrStopping
	}
	if n := len(t.running) + t.starting; n >= maxTrials {
		return &problems.Refusal{
			Status: http.StatusTooManyRequests,
			Detail: fmt.Sprintf("%d trials wait or run already; more have to wait", n),
		}
	}
	t.starting++
	t.wg.Add(1)
	return nil
}

// ofDrills makes a trial of drills. They may call the contract by whatever file name they were written with, and what
// it includes as it does.
func (x *trial) ofDrills(version store.Version, in api.StartTrial) error {
	if in.Shake < 0 || in.Shake > maxTrialShake {
		return problems.BadRequest(
			fmt.Sprintf("drills are shaken at most %d times here, not %d", maxTrialShake, in.Shake),
		)
	}
	list, err := loadDrills(version, in.Drills)
	if err != nil {
		return err
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

// loadDrills reads files of drills, given by name, against a version of a contract. It returns a refusal for files that
// lead out of their folder, for mistakes in them, and for more files or drills than a trial may have.
func loadDrills(version store.Version, files map[string]string) ([]*drill.Drill, error) {
	if len(files) == 0 || len(files) > maxTrialFiles {
		return nil, problems.BadRequest(
			fmt.Sprintf(
				"a trial of drills is given 1 to %d files of drills by name, not %d", maxTrialFiles, len(files),
			),
		)
	}
	main := "" // the name that the drills call the contract by
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
	var mistakes syntax.Problems
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if !filepath.IsLocal(name) {
			return nil, problems.BadRequest(fmt.Sprintf("the file name %.80q leads out of its folder", name))
		}
		drills, wrong := drill.Load(name, files[name], open)
		list = append(list, drills...)
		mistakes = append(mistakes, wrong...)
	}
	if len(mistakes) > 0 {
		return nil, &problems.Refusal{
			Status:   http.StatusUnprocessableEntity,
			Detail:   fmt.Sprintf("the drills have %s; none was run", count(len(mistakes), "mistake")),
			Mistakes: mistakes,
		}
	}
	if len(list) > maxTrialDrills {
		return nil, problems.BadRequest(
			fmt.Sprintf("a trial is of at most %d drills, not %d", maxTrialDrills, len(list)),
		)
	}
	return list, nil
}

// ofAudit makes the trial an audit of a version.
func (x *trial) ofAudit(version store.Version, in api.StartTrial) error {
	if in.Rounds < 0 || in.Rounds > maxTrialRounds || in.Ticks < 0 || in.Ticks > maxTrialTicks {
		return problems.BadRequest(
			fmt.Sprintf("an audit has at most %d rounds of %d ticks here", maxTrialRounds, maxTrialTicks),
		)
	}
	if len(in.Drills) > 0 || in.Shake != 0 {
		return problems.BadRequest("an audit takes no drills and is not shaken")
	}
	c, mistakes := compile.LoadWith(version.Contract+".kam", version.Source, contract.Files(version.Files).Open)
	if c == nil {
		return &problems.Refusal{
			Status:   http.StatusUnprocessableEntity,
			Detail:   "this version cannot be read any more",
			Mistakes: mistakes,
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
			Findings: mistakes,
			Each:     func(int) { done() },
		})
		if err != nil {
			return nil, false, "", err
		}
		summary := fmt.Sprintf("%d attacks: %s, %s learned and %d not varied, %s, %.1f %% of the cells filled",
			r.Tried, count(r.Effects, "effect"),
			count(r.Learned, "value"), r.Unread(), count(len(r.Findings), "finding"), 100*r.Filled)
		return r, r.Clean(), summary, nil
	}
	return nil
}

// run waits for a trial's turn, runs it and keeps what came of it.
func (t *Trials) run(ctx context.Context, x *trial) {
	defer func() {
		x.cancel()
		t.mu.Lock()
		delete(t.running, x.row.ID)
		t.mu.Unlock()
	}()
	row := x.row
	end := func(state string, passed *bool, summary string, report any) {
		now := time.Now()
		row.State = state
		row.EndedAt = &now
		row.Passed = passed
		row.Summary = summary
		if report != nil {
			row.Report = api.Encode(report)
		}
		keep, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := t.records.SetTrial(keep, row); err != nil {
			slog.Error("what came of a trial could not be kept", "trial", row.ID, "error", err)
		}
	}
	select {
	case t.turn <- struct{}{}:
		if ctx.Err() != nil {
			<-t.turn
			end("stopped", nil, "it was stopped before it began", nil)
			return
		}
	case <-ctx.Done():
		end("stopped", nil, "it was stopped before it began", nil)
		return
	}
	defer func() { <-t.turn }()
	row.State = "running"
	x.running.Store(true)
	if err := t.records.SetTrial(ctx, row); err != nil {
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

// Stop stops all, and waits until what came of them is kept.
func (t *Trials) Stop(ctx context.Context) error {
	t.mu.Lock()
	t.stopping = true
	for _, x := range t.running {
		x.cancel()
	}
	t.mu.Unlock()
	over := make(chan struct{})
	go func() { t.wg.Wait(); close(over) }()
	select {
	case <-over:
		return nil
	case <-ctx.Done():
		return errors.New("stop the trials: one did not end")
	}
}

// trialOf returns a stored trial as the API gives it.
func trialOf(row store.Trial) api.Trial {
	out := api.Trial{
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
	var asked api.StartTrial
	if json.Unmarshal(row.Asked, &asked) == nil && asked.What != "" {
		out.Asked = &asked
	}
	return out
}

// progress puts in how far a trial is that waits or runs; the lock is held.
func (t *Trials) progress(out *api.Trial) {
	if x := t.running[out.ID]; x != nil && !out.Over() {
		out.Done = int(x.done.Load())
		out.Of = x.of
		if x.running.Load() {
			out.State = "running"
		}
	}
}

// List returns the trials of a version, newest first.
func (t *Trials) List(ctx context.Context, contract string, version int) ([]api.Trial, error) {
	rows, err := t.records.Trials(ctx, contract, version, 100)
	out := []api.Trial{}
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, row := range rows {
		x := trialOf(row)
		t.progress(&x)
		out = append(out, x)
	}
	return out, err
}

// Get returns one trial with its result. The error of one that does not exist is store.ErrNotFound.
func (t *Trials) Get(ctx context.Context, id int64) (api.Trial, error) {
	row, err := t.records.Trial(ctx, id)
	if err != nil {
		return api.Trial{}, err
	}
	x := trialOf(row)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.progress(&x)
	return x, nil
}

// End ends a trial that runs; what it found so far is kept.
func (t *Trials) End(id int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if x := t.running[id]; x != nil {
		x.cancel()
	}
}

// count returns a number with what it counts, in the plural unless it is one.
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
