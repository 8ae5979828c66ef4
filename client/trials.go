package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"time"
)

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

// Trial is a run of drills, or of the audit, and what came of it.
type Trial struct {
	ID       int64           `json:"id"`
	Contract string          `json:"contract"`
	Version  int             `json:"version"`
	What     string          `json:"what"`
	State    string          `json:"state"` // waiting, running, ended, stopped or failed
	Done     int             `json:"done"`  // runs of drills, or rounds of the audit
	Of       int             `json:"of"`
	AskedAt  time.Time       `json:"asked_at"`
	EndedAt  *time.Time      `json:"ended_at,omitempty"`
	Passed   *bool           `json:"passed,omitempty"`
	Summary  string          `json:"summary"`
	Report   json.RawMessage `json:"report,omitempty"` // a drill.Report or an audit.Report; not in lists
}

// Over reports whether nothing more comes.
func (t Trial) Over() bool { return t.State != "waiting" && t.State != "running" }

// StartTrial has a version put to a trial; 0 is the newest version. Drills with mistakes give a *Problem that lists
// them.
func (a API) StartTrial(ctx context.Context, contract string, version int, s StartTrial) (t Trial, err error) {
	err = a.call(
		ctx, "POST", fmt.Sprintf("/api/contracts/%s/versions/%d/trials", url.PathEscape(contract), version), s, &t,
	)
	return t, err
}

// Trials returns the newest trials of a version, newest first; 0 is the newest version.
func (a API) Trials(ctx context.Context, contract string, version int) (out []Trial, err error) {
	err = a.call(
		ctx, "GET", fmt.Sprintf("/api/contracts/%s/versions/%d/trials", url.PathEscape(contract), version), nil, &out,
	)
	return out, err
}

// Trial reads a trial, with its report once it has ended.
func (a API) Trial(ctx context.Context, id int64) (t Trial, err error) {
	err = a.call(ctx, "GET", fmt.Sprintf("/api/trials/%d", id), nil, &t)
	return t, err
}

// StopTrial ends a trial that waits or runs.
func (a API) StopTrial(ctx context.Context, id int64) (t Trial, err error) {
	err = a.call(ctx, "POST", fmt.Sprintf("/api/trials/%d/stop", id), nil, &t)
	return t, err
}
