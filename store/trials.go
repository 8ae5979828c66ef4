package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
)

// Trial is a run of drills, or of the audit, on a version of a contract, and what came of it.
type Trial struct {
	ID       int64
	Contract string
	Version  int
	What     string          // drills or audit
	Asked    json.RawMessage // with what
	State    string          // waiting, running, ended, stopped or failed
	AskedAt  time.Time
	EndedAt  *time.Time
	Passed   *bool // of one that ended
	Summary  string
	Report   json.RawMessage // of one that ended
}

// keptTrials is how many of one version are kept, the newest; those that wait or run are kept in any case.
const keptTrials = 200

const (
	trials = "select id, contract, version, what, asked, state, asked_at, ended_at, passed, summary, report " +
		"from trials"
	trialsShort = "select id, contract, version, what, 'null'::json, state, asked_at, ended_at, passed, summary, " +
		"null::json from trials"
)

// scanTrial reads a row of the table of trials.
func scanTrial(row pgx.CollectableRow) (t Trial, err error) {
	err = row.Scan(
		&t.ID, &t.Contract, &t.Version, &t.What, &t.Asked, &t.State, &t.AskedAt, &t.EndedAt, &t.Passed, &t.Summary,
		&t.Report,
	)
	return t, err
}

// AddTrial stores a trial that waits, and gives it a number. The oldest ones of its version go once there are too many.
func (s *Store) AddTrial(ctx context.Context, t Trial) (Trial, error) {
	if _, err := s.pool.Exec(
		ctx,
		"delete from trials where ended_at is not null and id in (select id from trials where contract = $1 and "+
			"version = $2 order by id desc offset $3)",
		t.Contract, t.Version, keptTrials-1,
	); err != nil {
		return t, fmt.Errorf("forget old trials of %s version %d: %w", t.Contract, t.Version, err)
	}
	err := s.pool.QueryRow(
		ctx,
		"insert into trials (contract, version, what, asked, state, holder) values ($1, $2, $3, $4, 'waiting', $5) "+
			"returning id, state, asked_at",
		t.Contract, t.Version, t.What, t.Asked, s.id,
	).Scan(
		&t.ID, &t.State, &t.AskedAt,
	)
	if err != nil {
		return t, fmt.Errorf("note a trial of %s version %d: %w", t.Contract, t.Version, err)
	}
	return t, nil
}

// SetTrial notes how far a trial is: its state, and what came of it.
func (s *Store) SetTrial(ctx context.Context, t Trial) error {
	_, err := s.pool.Exec(
		ctx, "update trials set state = $2, ended_at = $3, passed = $4, summary = $5, report = $6 where id = $1", t.ID,
		t.State, t.EndedAt, t.Passed, clean(t.Summary), t.Report,
	)
	if err != nil {
		return fmt.Errorf("note what came of trial %d: %w", t.ID, err)
	}
	return nil
}

// Trial reads one trial.
func (s *Store) Trial(ctx context.Context, id int64) (Trial, error) {
	rows, _ := s.pool.Query(ctx, trials+" where id = $1", id)
	t, err := pgx.CollectExactlyOneRow(rows, scanTrial)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	if err != nil {
		return t, fmt.Errorf("read trial %d: %w", id, err)
	}
	return t, nil
}

// Trials returns the newest trials of a version, newest first, without what they were asked and their reports.
func (s *Store) Trials(ctx context.Context, contract string, version, limit int) ([]Trial, error) {
	rows, _ := s.pool.Query(
		ctx, trialsShort+" where contract = $1 and version = $2 order by id desc limit $3", contract, version, limit,
	)
	out, err := pgx.CollectRows(rows, scanTrial)
	if err != nil {
		return nil, fmt.Errorf("list the trials of %s version %d: %w", contract, version, err)
	}
	return out, nil
}

// AddTrial is Store.AddTrial.
func (m *Memory) AddTrial(_ context.Context, t Trial) (Trial, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	t.ID = int64(len(m.trials) + 1)
	t.State = "waiting"
	t.AskedAt = time.Now()
	m.trials = append(m.trials, t)
	return t, nil
}

// SetTrial is Store.SetTrial.
func (m *Memory) SetTrial(_ context.Context, t Trial) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if t.ID < 1 || t.ID > int64(len(m.trials)) {
		return fmt.Errorf("note what came of trial %d: %w", t.ID, ErrNotFound)
	}
	m.trials[t.ID-1] = t
	return nil
}

// Trial is Store.Trial.
func (m *Memory) Trial(_ context.Context, id int64) (Trial, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if id < 1 || id > int64(len(m.trials)) {
		return Trial{}, fmt.Errorf("read trial %d: %w", id, ErrNotFound)
	}
	return m.trials[id-1], nil
}

// Trials is Store.Trials.
func (m *Memory) Trials(_ context.Context, contract string, version, limit int) (out []Trial, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, t := range slices.Backward(m.trials) {
		if t.Contract == contract && t.Version == version && len(out) < limit {
			t.Asked = nil
			t.Report = nil
			out = append(out, t)
		}
	}
	return out, nil
}
