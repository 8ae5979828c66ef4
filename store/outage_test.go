package store_test

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/internal/tests/testservice"
	"kamerad.example/store"
)

// wreckSession is a session that is opened.
var wreckSession = store.Recorded{
	Session: store.Session{Contract: "wreck", Version: 1},
	Options: json.RawMessage("{}"),
}

// outage is a store with a session in it, whose database can stop taking decisions.
type outage struct {
	t       *testing.T
	store   *store.Store
	conn    *pgx.Conn // another connection to the database
	session int64
}

func newOutage(t *testing.T) *outage {
	url := testservice.Database(t)
	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	publish(t, s, "one")
	session, err := s.OpenSession(t.Context(), wreckSession)
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(context.Background()) })
	return &outage{t, s, conn, session.ID}
}

// begin makes the database refuse decisions.
func (o *outage) begin() { o.exec("alter table decisions rename to away") }

// end makes the database take decisions again.
func (o *outage) end() { o.exec("alter table away rename to decisions") }

func (o *outage) exec(sql string) {
	_, err := o.conn.Exec(o.t.Context(), sql)
	require.NoError(o.t, err)
}

// What waits while the database is away is bounded by its size; what goes is counted, what was refused goes first, and
// what players have done is stored before it.
func TestWhatWaitsIsBoundedByItsSize(t *testing.T) {
	o := newOutage(t)
	o.begin()
	r := store.NewRecorder(o.store)
	args := json.RawMessage(`["` + strings.Repeat("x", 1500) + `"]`)
	for i := range 60_000 {
		outcome := "malformed"
		with := args
		if i%30 == 0 {
			outcome = "accepted"
			with = json.RawMessage(`[]`)
		}
		r.Record([]store.Decision{{
			Session: o.session,
			Seq:     uint64(i + 1),
			Request: "A.b",
			Args:    with,
			Outcome: outcome,
			At:      time.Now(),
		}})
	}
	waiting, lost := r.Waiting()
	assert.Less(t, waiting*1500, 64<<20, "%d wait", waiting)
	assert.EqualValues(t, 60_000, int64(waiting)+lost, "what was given up is counted")
	o.end()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	require.NoError(t, r.Close(ctx))
	var accepted, first int
	require.NoError(
		t, o.conn.QueryRow(t.Context(), "select count(*) from decisions where outcome = 'accepted'").Scan(&accepted),
	)
	assert.Equal(t, 2000, accepted, "none that was accepted is missing")
	require.NoError(
		t,
		o.conn.QueryRow(
			t.Context(),
			"select count(*) from (select outcome from decisions order by ctid limit 4000) a where outcome = 'accepted'",
		).Scan(
			&first,
		),
	)
	assert.Equal(t, 2000, first, "they are stored first, but for a batch that was under way")
}

// While the database is away, one client that floods the service with what is accepted loses its own records, and
// nobody else's.
func TestWhoFloodsLosesItsOwnRecords(t *testing.T) {
	o := newOutage(t)
	o.begin()
	r := store.NewRecorder(o.store)
	flood := json.RawMessage(`["` + strings.Repeat("x", 1500) + `"]`)
	honest := 0
	for i := range 60_000 {
		d := store.Decision{
			Session: o.session,
			Client:  1,
			Name:    "Eve",
			Seq:     uint64(i + 1),
			Request: "A.b",
			Args:    flood,
			Outcome: "accepted",
			At:      time.Now(),
		}
		if i%3 == 0 {
			d.Client = 2 + i%50
			d.Name = "Honest"
			d.Args = json.RawMessage(`[]`)
			honest++
		}
		r.Record([]store.Decision{d})
	}
	b := r.Backlog()
	assert.LessOrEqual(t, b.Bytes, 32<<20)
	assert.Greater(t, b.Bytes, 28<<20)
	assert.EqualValues(t, 60_000, int64(b.Waiting)+b.DroppedKept, "what was given up is counted")
	o.end()
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	require.NoError(t, r.Close(ctx))
	var stored, newest int
	require.NoError(
		t,
		o.conn.QueryRow(
			t.Context(),
			"select count(*) filter (where name = 'Honest'), max(seq) filter (where name = 'Eve') from decisions",
		).Scan(
			&stored, &newest,
		),
	)
	assert.Equal(t, honest, stored, "no honest record is missing")
	assert.Greater(t, newest, 59_990, "of the one who floods, the newest are kept")
}

// A service whose hold on the database was lost, as when the database was restarted, takes it again; nobody else finds
// it free for longer.
func TestALostHoldIsTakenAgain(t *testing.T) {
	times := 20
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_OFTEN")); err == nil {
		times = n
	}
	url := testservice.Database(t)
	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	holder := func() (pid int) {
		err := conn.QueryRow(
			t.Context(),
			"select pid from pg_locks where locktype = 'advisory' and granted and database = (select oid from "+
				"pg_database where datname = current_database())",
		).Scan(
			&pid,
		)
		if err != nil {
			return 0
		}
		return pid
	}
	for i := range times {
		before := holder()
		require.NotZero(t, before)
		_, err = conn.Exec(t.Context(), "select pg_terminate_backend($1)", before)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			now := holder()
			return now != 0 &&
				now != before
		}, 10*time.Second, time.Millisecond, "round %d", i)
	}
}

// An outage is told once a minute at most, and its end once.
func TestAnOutageFillsNoLog(t *testing.T) {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	t.Cleanup(func() { slog.SetDefault(before) })
	o := newOutage(t)
	o.begin()
	r := store.NewRecorder(o.store)
	d := store.Decision{
		Session: o.session,
		Seq:     1,
		Request: "A.b",
		Args:    json.RawMessage(`[]`),
		Outcome: "accepted",
		At:      time.Now(),
	}
	r.Record([]store.Decision{d})
	time.Sleep(2 * time.Second) // three tries
	o.end()
	require.Eventually(t, func() bool { n, _ := r.Waiting(); return n == 0 }, 30*time.Second, 10*time.Millisecond)
	require.NoError(t, r.Close(t.Context()))
	assert.Equal(t, 1, strings.Count(log.String(), "they wait"), log.String())
	assert.Equal(t, 1, strings.Count(log.String(), "stored again"), log.String())
}
