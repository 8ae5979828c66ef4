package store

import (
	"context"
	"os"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// durations is a tracer that keeps how long each statement took.
type durations struct {
	mu   sync.Mutex
	took []time.Duration
}

type beganKey struct{}

func (d *durations) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	return context.WithValue(ctx, beganKey{}, time.Now())
}

func (d *durations) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryEndData) {
	began, ok := ctx.Value(beganKey{}).(time.Time)
	if !ok {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.took = append(d.took, time.Since(began))
}

// Thirty days of recordings, of a session after the other: retention keeps them within their bound, and no statement
// holds up others. KAMERAD_DAYS says how many days.
func TestRetentionHoldsForDays(t *testing.T) {
	days := 2
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_DAYS")); err == nil {
		days = n
	}
	s, _ := opened(t)
	ctx := t.Context()
	const bound = 30_000_000
	most := int64(0)
	tracer := &durations{}
	for day := range days {
		for range 24 {
			x := openOne(t, s)
			_, err := s.pool.Exec(ctx, `
				insert into call_batches (session, number, after_tick, last_tick, size, data)
					select $1, n, n * 36, n * 36 + 36, 2000, decode(repeat('5a', 500), 'hex')
					from generate_series(1, 2000) n`,
				x.ID)
			require.NoError(t, err)
			_, err = s.pool.Exec(ctx, `
				insert into checkpoints (session, tick, next_batch, format, data)
					select $1, n * 3600, n, 1, decode(repeat('a5', 10000), 'hex') from generate_series(1, 20) n`, x.ID)
			require.NoError(t, err)
			_, err = s.pool.Exec(
				ctx, "update sessions set bytes = 1200000, closed_at = now() - make_interval(days => $2) where id = $1",
				x.ID, days-day,
			)
			require.NoError(t, err)
		}
		config := s.pool.Config()
		config.ConnConfig.Tracer = tracer
		traced := *s
		pool, err := pgxpool.NewWithConfig(ctx, config)
		require.NoError(t, err)
		traced.pool = pool
		_, err = traced.Retain(ctx, Retention{Bytes: bound})
		pool.Close()
		require.NoError(t, err)
		var bytes int64
		row := s.pool.QueryRow(ctx, "select coalesce(sum(octet_length(data)), 0) from call_batches")
		require.NoError(t, row.Scan(&bytes))
		most = max(most, bytes)
	}
	// The slowest of all waited for the disk, which others write to as well: one in a thousand may.
	slices.Sort(tracer.took)
	n := len(tracer.took)
	slow := tracer.took[n*999/1000]
	t.Logf(
		"%d days, %d MB of calls at most; of %d statements 999 in 1000 took at most %s, the slowest %s",
		days, most/1_000_000, n, slow, tracer.took[n-1],
	)
	assert.Greater(t, n, 1000, "retention deleted")
	assert.Less(t, most, int64(bound))
	assert.Less(t, slow, 100*time.Millisecond)
}

// What is stored through Append, with everything that it checks, beside a bare insert of the same rows.
func TestAppendBesideABareInsert(t *testing.T) {
	s, _ := opened(t)
	ctx := t.Context()
	_, err := s.pool.Exec(ctx, "create table bare (like call_batches including all)")
	require.NoError(t, err)
	var sessions []int64
	for range 50 {
		sessions = append(sessions, openOne(t, s).ID)
	}
	data := make([]byte, 600)
	var rates, bares []float64
	number := int64(0)
	for range 12 {
		began := time.Now()
		for range 10 {
			number++
			var e Entries
			for _, id := range sessions {
				b := Batch{Session: id, Number: number, After: number, Last: number, Data: data}
				e.Batches = append(e.Batches, b)
			}
			_, err := s.Append(ctx, e)
			require.NoError(t, err)
		}
		rates = append(rates, 500/time.Since(began).Seconds())
		began = time.Now()
		for i := range int64(10) {
			var numbers, ticks []int64
			var sizes []int
			var rows [][]byte
			for range sessions {
				numbers = append(numbers, number*100+i)
				ticks = append(ticks, number)
				sizes = append(sizes, 600)
				rows = append(rows, data)
			}
			_, err := s.pool.Exec(
				ctx,
				`insert into bare (session, number, after_tick, last_tick, size, data)
				select * from unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::bigint[], $5::int[], $6::bytea[])`,
				sessions, numbers, ticks, ticks, sizes, rows,
			)
			require.NoError(t, err)
		}
		bares = append(bares, 500/time.Since(began).Seconds())
	}
	slices.Sort(rates)
	slices.Sort(bares)
	t.Logf("%.0f rows a second, a bare insert %.0f: %.2f", rates[6], bares[6], rates[6]/bares[6])
	assert.Greater(t, rates[6]/bares[6], 0.25)
}
