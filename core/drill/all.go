package drill

import (
	"context"
	"fmt"
)

// MaxShake is how often a drill can be shaken.
const MaxShake = 1_000_000

// Report is what came of several drills.
type Report struct {
	Passed  int       `json:"passed"`
	Failed  int       `json:"failed"`
	Seconds float64   `json:"seconds"` // that it took; of the one who measured it
	Ticks   int64     `json:"ticks"`
	Results []*Result `json:"results"`
}

// Round says how several drills are run.
type Round struct {
	Options
	Shake int           // over so many random links each; 0 for none
	Seed  uint64        // that those come from
	Run   func()        // called after each run of a drill; may be nil
	Done  func(*Result) // called after each drill; may be nil
}

// All runs drills one after the other. The error says that one could not be run; the report then holds those before it.
//
// A drill that fails does not keep the others from running. Seconds of the report is left to the
// caller, since nothing here reads a clock.
func All(ctx context.Context, drills []*Drill, round Round) (*Report, error) {
	report := &Report{Results: []*Result{}}
	run := round.Run
	if run == nil {
		run = func() {}
	}
	for _, d := range drills {
		var r *Result
		var err error
		if round.Shake > 0 {
			r, err = d.Shake(ctx, round.Seed, round.Shake, round.Options, run)
		} else {
			r, err = d.Run(ctx, round.Options)
			run()
		}
		if err != nil {
			return report, fmt.Errorf("run the drill %q: %w", d.Name, err)
		}
		report.Results = append(report.Results, r)
		report.Ticks += r.Ticks * int64(max(r.Runs, 1))
		if r.Passed {
			report.Passed++
		} else {
			report.Failed++
		}
		if round.Done != nil {
			round.Done(r)
		}
	}
	return report, nil
}
