package record_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/internal/tests/contracts"
)

// recorder records a session as a drill plays it, with a checkpoint now and then.
type recorder struct {
	record.Recording
	session *session.Session
	writer  *record.Writer
	calls   map[session.CallType]int
	err     error
}

func (r *recorder) Joined(int)         {}
func (r *recorder) Left(int)           {}
func (r *recorder) Arrived(int, int64) {}
func (r *recorder) Began(s *session.Session) {
	r.session = s
	r.writer = record.NewWriter(s.Now(), 1)
	s.RecordCalls(func(c *session.Call) {
		r.calls[c.Type]++
		r.writer.Record(c)
	})
}

func (r *recorder) Ticked(step *session.Step) {
	isCheckpoint := step.Tick%25 == 11
	if step.Tick%7 == 0 || isCheckpoint { // else ticks are gathered
		batch, _ := r.writer.Take()
		batch.Data = record.Compress(batch.Data)
		r.Batches = append(r.Batches, batch)
	}
	if isCheckpoint {
		data, _, err := r.session.Checkpoint()
		if err != nil {
			r.err = err
		}
		r.Checkpoints = append(r.Checkpoints, record.Checkpoint{
			Tick: step.Tick,
			Next: r.writer.Next(),
			Data: record.Compress(data),
		})
	}
}

// loaded returns a contract.
func loaded(t *testing.T, text string) *contract.Contract {
	c, problems := compile.Load("story.kam", text)
	require.NotNil(t, c, problems.Error())
	return c
}

// kills reports whether a drill kills its session: then it records that itself.
func kills(text, name string) bool {
	_, after, _ := strings.Cut(text, fmt.Sprintf("drill %q", name))
	own, _, _ := strings.Cut(after, "\ndrill ")
	return strings.Contains(own, "\nrestart") || strings.Contains(own, "\nnext session")
}

// allDrills returns every drill of the demo and of the examples but those that kill their sessions.
func allDrills(t *testing.T) (out []*drill.Drill) {
	files, err := filepath.Glob("../../examples/*/*.drill")
	require.NoError(t, err)
	demo, err := filepath.Glob("../../demo/*.drill")
	require.NoError(t, err)
	for _, file := range append(files, demo...) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		list, problems := drill.Load(file, string(text), contracts.Beside(file))
		require.Empty(t, problems)
		out = append(out, slices.DeleteFunc(list, func(d *drill.Drill) bool { return kills(string(text), d.Name) })...)
	}
	return out
}

// Every drill of the demo and of the examples is recorded, over links that are shaken: played again, from its beginning
// and from each checkpoint, each frame is what was sent then, byte for byte, and so is the last digest of the state.
func TestWhatIsRecordedIsPlayedAgainToTheByte(t *testing.T) {
	ctx := context.Background()
	called := map[session.CallType]int{}
	ticks := int64(0)
	again := allDrills(t) // with contracts that were read anew, as by another process
	for i, d := range allDrills(t) {
		r := &recorder{calls: called}
		o := drill.Options{Observer: r, Shaken: &drill.Shaking{Seed: uint64(i + 1)}}
		_, err := d.Run(ctx, o)
		require.NoError(t, err)
		require.NoError(t, r.err)
		if len(r.Batches) == 0 {
			continue
		}
		end := r.Batches[len(r.Batches)-1].Last
		options := session.Options{Key: drill.Key(d.Seed), Prove: true, Trace: true, Settings: d.Settings}
		c := again[i].Contract
		whole := record.NewPlayer(c, options, &record.Recording{Batches: r.Batches})
		require.NoError(t, whole.Seek(ctx, end), d.Name)
		require.Equal(t, end, whole.Session().Now())
		ticks += end
		for n, from := range r.Checkpoints {
			if (n+i)%4 > 0 { // they are many
				continue
			}
			p := record.NewPlayer(c, options, &record.Recording{
				Batches:     r.Batches,
				Checkpoints: []record.Checkpoint{from},
			})
			require.NoError(t, p.Seek(ctx, end), "%s from tick %d", d.Name, from.Tick)
			assert.Equal(t, string(whole.Session().State().JSON()), string(p.Session().State().JSON()), d.Name)
		}
	}
	t.Logf("%d ticks; calls: %v", ticks, called)
	for _, call := range session.CallTypes() {
		switch call {
		case session.CallConfirmStored, session.CallBehind, session.CallCaughtUp, session.CallReportDifference,
			session.CallRecover, session.CallLoadKept:
			// no drill stores, holds up a client, has a copy that differs, or ends its process
		default:
			assert.Positive(t, called[call], call)
		}
	}
}

// A recording is of a session: what was changed in it afterwards is found at the first tick that it changes.
func TestWhatDiffersIsFound(t *testing.T) {
	ctx := context.Background()
	all := allDrills(t)
	d := all[slices.IndexFunc(all, func(d *drill.Drill) bool { return strings.HasPrefix(d.Name, "the fifth strike") })]
	r := &recorder{calls: map[session.CallType]int{}}
	_, err := d.Run(ctx, drill.Options{Observer: r})
	require.NoError(t, err)
	end := r.Batches[len(r.Batches)-1].Last
	other := session.Options{Key: drill.Key(d.Seed + 1), Prove: true, Trace: true, Settings: d.Settings}
	p := record.NewPlayer(d.Contract, other, &record.Recording{Batches: r.Batches})
	err = p.Seek(ctx, end)
	require.ErrorIs(t, err, record.ErrDiffers)
	assert.Less(t, p.Session().Now(), end)

	missing := &record.Recording{Batches: append(r.Batches[:1:1], r.Batches[2:]...)}
	options := session.Options{Key: drill.Key(d.Seed), Prove: true, Trace: true, Settings: d.Settings}
	p = record.NewPlayer(d.Contract, options, missing)
	err = p.Seek(ctx, end)
	require.NoError(t, err, "it ends there")
	assert.EqualValues(t, 7, p.Session().Now())
	missing.Batches[1].Number = 2
	p = record.NewPlayer(d.Contract, options, missing)
	require.ErrorContains(t, p.Seek(ctx, end), "and the session is at 7")

	canceled, cancel := context.WithCancel(ctx)
	cancel()
	p = record.NewPlayer(d.Contract, options, &r.Recording)
	require.ErrorIs(t, p.Seek(canceled, end), context.Canceled)
}
