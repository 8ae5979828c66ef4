package store

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// Times of the watch over the lock.
const (
	lockAskEvery  = 5 * time.Second        // how often the database is asked whether it still knows the connection
	lockAskWithin = 3 * time.Second        // and how long that may take
	lockTryEvery  = 500 * time.Millisecond // how often a lost lock is tried for again
)

// takeLock takes the lock that says that a service lives.
const takeLock = "select pg_try_advisory_lock(hashtext('kamerad holder'), hashtext($1::uuid::text))"

// isHeld is a condition over the column `holder`: the service that it names lives.
const isHeld = `exists (
	select from pg_locks where locktype = 'advisory' and granted and objsubid = 2
		and database = (select oid from pg_database where datname = current_database())
		and classid::bigint = hashtext('kamerad holder')::bigint & 4294967295
		and objid::bigint = hashtext(holder::text)::bigint & 4294967295
)`

// lock says that a service lives, so that nobody takes over the sessions and trials that it holds: an advisory lock,
// which the database gives back when the connection that took it ends, as with its own restart. So the connection is
// watched, and the lock taken again when it was lost.
type lock struct {
	id   [16]byte // of the service
	pool *pgxpool.Pool
	mu   sync.Mutex
	conn *pgxpool.Conn // that took it; nil while it is not held
	stop context.CancelFunc
	done chan struct{}
}

// hold takes the lock and watches over it until release.
func hold(ctx context.Context, pool *pgxpool.Pool, conn *pgxpool.Conn, id [16]byte) (*lock, error) {
	var free bool
	if err := conn.QueryRow(ctx, takeLock, id).Scan(&free); err != nil {
		return nil, err
	}
	if !free {
		return nil, ErrTaken
	}
	watching, stop := context.WithCancel(context.Background())
	l := &lock{
		id:   id,
		pool: pool,
		conn: conn,
		stop: stop,
		done: make(chan struct{}),
	}
	go l.watch(watching)
	return l, nil
}

// held reports whether it is known that the service lives.
func (l *lock) held() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conn != nil
}

// release lets others take what the service held.
func (l *lock) release() {
	l.stop()
	<-l.done
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn != nil {
		l.conn.Release()
		l.conn = nil
	}
}

// watch takes the lock again whenever it is lost, until ctx ends.
func (l *lock) watch(ctx context.Context) {
	defer close(l.done)
	for ctx.Err() == nil {
		if err := l.lives(ctx); err != nil && ctx.Err() == nil {
			slog.Error(
				"the database no longer knows that this service lives; no session is opened until it does", "error",
				err,
			)
			l.lose()
			l.regain(ctx)
		}
	}
}

// lives waits while the connection that took the lock lives, and returns what ended it.
func (l *lock) lives(ctx context.Context) error {
	for {
		waiting, cancel := context.WithTimeout(ctx, lockAskEvery)
		_, err := l.conn.Conn().WaitForNotification(waiting) // there are none; it returns when the connection ends
		timedOut := waiting.Err() != nil
		cancel()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil && !timedOut {
			return err
		}
		asking, cancel := context.WithTimeout(ctx, lockAskWithin)
		err = l.conn.Ping(asking)
		cancel()
		if err != nil {
			return err
		}
	}
}

// lose lets go of the connection that held the lock, so that the store counts as not held.
func (l *lock) lose() {
	l.mu.Lock()
	defer l.mu.Unlock()
	conn := l.conn
	l.conn = nil
	go func() { // which may take a while when the database does not answer
		ctx, cancel := context.WithTimeout(context.Background(), lockAskWithin)
		defer cancel()
		_ = conn.Conn().Close(ctx) // it must never come back into the pool with the lock
		conn.Release()
	}()
}

// regain tries to take the lock again until it has it.
func (l *lock) regain(ctx context.Context) {
	for ctx.Err() == nil {
		conn, err := l.try(ctx)
		if err == nil {
			l.mu.Lock()
			l.conn = conn
			l.mu.Unlock()
			slog.Info("the database knows again that this service lives")
			return
		}
		select {
		case <-time.After(lockTryEvery):
		case <-ctx.Done():
		}
	}
}

// try takes the lock on a connection of its own, which holds it until it is closed.
func (l *lock) try(ctx context.Context) (*pgxpool.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, lockAskWithin)
	defer cancel()
	conn, err := l.pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	var free bool
	if err = conn.QueryRow(ctx, takeLock, l.id).Scan(&free); err == nil && !free {
		err = ErrTaken
	}
	if err != nil {
		conn.Release()
		return nil, err
	}
	return conn, nil
}
