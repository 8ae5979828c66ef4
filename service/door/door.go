// Package door says who may come in: players with a ticket, and operators with a token, unless the service is open.
//
// A Door knows the tokens, the sign-ins and the bans of the database. It reads them again and again, so that nothing
// that anybody sends makes it ask the database: a wrong token costs a hash and a look into a table. Only a ticket that
// is right in everything else is noted there as used. The package knows no routes and no sockets.
package door

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"golang.org/x/text/unicode/norm"
	"golang.org/x/time/rate"

	"kamerad.example/auth"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/store"
)

// Records keep who may come in.
type Records interface {
	Access(ctx context.Context) (store.Access, error)
	SpendTicket(ctx context.Context, key, number string, expires time.Time) (fresh bool, err error)
	ReturnTicket(ctx context.Context, key, number string) error
	NoteTokenUse(ctx context.Context, id int64) error
}

// Options are what a Door is made of.
type Options struct {
	Records Records       // nil for a service without a database: it is open
	Tickets *auth.Tickets // what checks tickets; nil lets clients join without
	Tokens  bool          // whoever uses the API needs a token
	// Banned is called for each ban that is new, with the player and the contract, which is empty for all. It may be
	// nil.
	Banned func(player, contract, reason string)
}

// Door says who may come in. Everybody may call it.
type Door struct {
	records Records
	tickets *auth.Tickets
	travel  auth.Key // signs the tickets of clients that are sent from one session to another; of this process alone
	tokens  bool
	banned  func(player, contract, reason string)

	again   *rate.Limiter // of reading the database for a token that is not known
	reading sync.Mutex    // held while the database is read: of two that read at once the later one counts
	mu      sync.RWMutex  // guards the rest
	byHash  map[[sha256.Size]byte]*token
	byID    map[int64]*token
	signIns map[[sha256.Size]byte]store.HashedSignIn
	bans    map[banKey]store.Ban
}

// token is a token that the door knows.
type token struct {
	store.Token
	used rate.Sometimes // its use is noted
}

// banKey names a ban.
type banKey struct{ player, contract string }

// New makes a door, which knows nobody before Refresh.
func New(o Options) *Door {
	d := &Door{
		records: o.Records,
		tokens:  o.Tokens,
		banned:  o.Banned,
		again:   rate.NewLimiter(2, 1),
	}
	if o.Tickets != nil {
		d.withTravel(o.Tickets)
	}
	return d
}

// travelKey is the name of the key that signs tickets of this service's own. No key of an operator's is called so.
const travelKey = "kamerad travel"

// withTravel has the door take the tickets that keys have signed, and those of its own.
func (d *Door) withTravel(tickets *auth.Tickets) {
	key, err := auth.NewKey("travel", auth.HS256)
	if err != nil {
		panic(err) // the system has no random numbers
	}
	key.Name = travelKey
	d.travel = key
	d.tickets = &auth.Tickets{
		Keys: func() []auth.Key { return append(slices.Clone(tickets.Keys()), key) },
		Now:  tickets.Now,
	}
}

// travelFor is how long a client has to arrive that is sent from one session to another.
const travelFor = time.Minute

// Travel makes a ticket for a player that is sent to another session; empty where no tickets are wanted. Its role is
// one that the contract gives without a ticket.
func (d *Door) Travel(session int64, player, name string) (string, error) {
	if d.tickets == nil {
		return "", nil
	}
	now := d.tickets.Now()
	return auth.Sign(d.travel, auth.Ticket{
		Player:  player,
		Name:    name,
		Session: session,
		Expires: now.Add(travelFor),
	}, now)
}

// WantsTickets reports whether clients join by tickets alone.
func (d *Door) WantsTickets() bool { return d.tickets != nil }

// WantsTokens reports whether operators need tokens.
func (d *Door) WantsTokens() bool { return d.tokens }

// refreshEvery is how often the database is asked what other services have changed.
const refreshEvery = 2 * time.Second

// Watch reads who may come in, again and again until ctx ends.
func (d *Door) Watch(ctx context.Context) {
	if d.records == nil {
		return
	}
	failed := rate.Sometimes{Interval: time.Minute}
	for ctx.Err() == nil {
		if err := d.Refresh(ctx); err != nil && ctx.Err() == nil {
			failed.Do(func() { slog.Warn("tokens and bans cannot be read; those that are known hold", "error", err) })
		}
		select {
		case <-time.After(refreshEvery):
		case <-ctx.Done():
		}
	}
}

// Refresh reads who may come in. Who has changed something calls it, so that it holds at once.
func (d *Door) Refresh(ctx context.Context) error {
	if d.records == nil {
		return nil
	}
	d.reading.Lock()
	defer d.reading.Unlock()
	access, err := d.records.Access(ctx)
	if err != nil {
		return err
	}
	d.mu.Lock()
	old := d.byID
	d.byHash = make(map[[sha256.Size]byte]*token, len(access.Tokens))
	d.byID = make(map[int64]*token, len(access.Tokens))
	for _, x := range access.Tokens {
		t := old[x.ID]
		if t == nil {
			t = &token{used: rate.Sometimes{Interval: time.Minute}}
		}
		t.Token = x.Token
		d.byHash[[sha256.Size]byte(x.Hash)] = t
		d.byID[x.ID] = t
	}
	d.signIns = make(map[[sha256.Size]byte]store.HashedSignIn, len(access.SignIns))
	for _, x := range access.SignIns {
		d.signIns[[sha256.Size]byte(x.Hash)] = x
	}
	fresh := d.setBans(access.Bans)
	d.mu.Unlock()
	if d.banned != nil {
		for _, b := range fresh {
			d.banned(b.Player, b.Contract, banText(b, time.Now()))
		}
	}
	return nil
}

// setBans takes the bans that hold, and returns those that are new. The door is locked.
func (d *Door) setBans(list []store.Ban) (fresh []store.Ban) {
	old := d.bans
	d.bans = make(map[banKey]store.Ban, len(list))
	for _, b := range list {
		key := banKey{b.Player, b.Contract}
		d.bans[key] = b
		if _, known := old[key]; !known {
			fresh = append(fresh, b)
		}
	}
	return fresh
}

// The errors of who is no operator.
var (
	ErrNoToken      = errors.New("this service wants to know who you are: sign in with a token")
	ErrWrongToken   = errors.New("the token is none of this service")
	ErrTokenExpired = errors.New("the token has expired; have another one made")
	ErrTokenRevoked = errors.New("the token was revoked; have another one made")
	ErrSignedOut    = errors.New("you are not signed in any more; sign in again")
)

// nobody is who uses a service that is open.
var nobody = auth.Operator{Name: "open", Right: auth.Run}

// Operator returns whose a token is. A service that wants no tokens takes everybody for one who may do everything.
func (d *Door) Operator(text string) (auth.Operator, error) {
	if !d.tokens {
		return nobody, nil
	}
	if text == "" {
		return auth.Operator{}, ErrNoToken
	}
	hash := sha256.Sum256([]byte(text))
	d.mu.RLock()
	t := d.byHash[hash]
	d.mu.RUnlock()
	if t == nil && d.records != nil && d.again.Allow() { // it may have been made just now, beside this service
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = d.Refresh(ctx) // Watch tells of it
		d.mu.RLock()
		t = d.byHash[hash]
		d.mu.RUnlock()
	}
	return d.operator(t)
}

// SignedIn returns who is signed in, by what the cookie holds.
func (d *Door) SignedIn(cookie string) (auth.Operator, error) {
	if !d.tokens {
		return nobody, nil
	}
	d.mu.RLock()
	in, known := d.signIns[sha256.Sum256([]byte(cookie))]
	t := d.byID[in.Token]
	d.mu.RUnlock()
	if !known || time.Now().After(in.Until) {
		return auth.Operator{}, ErrSignedOut
	}
	return d.operator(t)
}

// operator returns whose a token is, and notes that it is used.
func (d *Door) operator(t *token) (auth.Operator, error) {
	if t == nil {
		return auth.Operator{}, ErrWrongToken
	}
	d.mu.RLock()
	row := t.Token
	d.mu.RUnlock()
	switch {
	case row.RevokedAt != nil:
		return auth.Operator{}, ErrTokenRevoked
	case row.ExpiresAt != nil && time.Now().After(*row.ExpiresAt):
		return auth.Operator{}, ErrTokenExpired
	}
	t.used.Do(func() {
		go func() {
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			if err := d.records.NoteTokenUse(ctx, row.ID); err != nil {
				slog.Warn("the use of a token could not be noted", "token", row.ID, "error", err)
			}
		}()
	})
	return auth.Operator{Name: row.Name, Right: auth.Right(row.Access), Token: row.ID}, nil
}

// Session is what a client wants to join.
type Session struct {
	ID       int64
	Contract *contract.Contract
}

// Entry is how a client may join.
type Entry struct {
	Player     string // its identity; empty for who goes by the name
	Name, Role string
	key        string // of the ticket
	number     string // of the ticket; empty for none
}

// ErrAway says that the database does not answer.
var ErrAway = errors.New("join: whether the ticket was used before cannot be told now; try again in a moment")

// BannedError is the error of a player that is banned.
type BannedError struct{ Reason string }

// Error says why, and until when.
func (e *BannedError) Error() string { return "join: " + e.Reason }

// Admit says how a client may join that is new: by its ticket, and as it asks where no tickets are wanted. A ticket is
// used by it; Return makes it good again. The error is an *auth.TicketError, a *BannedError or ErrAway.
func (d *Door) Admit(ctx context.Context, s Session, j wire.Join) (Entry, error) {
	if d.tickets == nil {
		if j.Ticket != "" {
			return Entry{}, &auth.TicketError{
				Fault:  auth.TicketUnwanted,
				Detail: "join: this service has no keys for tickets; leave `ticket` out",
			}
		}
		return Entry{Name: j.Name, Role: j.Role}, d.refuseBanned(norm.NFC.String(j.Name), s.Contract.Name)
	}
	if j.Ticket == "" {
		return Entry{}, &auth.TicketError{
			Fault:  auth.TicketMissing,
			Detail: "join: this service wants a ticket, which the game's backend makes, or `kamerad ticket`",
		}
	}
	t, err := d.tickets.Read(j.Ticket)
	if err != nil {
		return Entry{}, err
	}
	role, err := t.Admit(s.ID, s.Contract.Name, j.Name, j.Role, s.Contract.ByTicket)
	if err != nil {
		return Entry{}, err
	}
	if err := d.refuseBanned(t.Player, s.Contract.Name); err != nil {
		return Entry{}, err
	}
	fresh, err := d.records.SpendTicket(ctx, t.Key, t.Number, t.Expires.Add(auth.ClockSkew))
	if err != nil {
		slog.Warn("a client is not seated: its ticket cannot be noted as used", "session", s.ID, "error", err)
		return Entry{}, ErrAway
	}
	if !fresh {
		return Entry{}, &auth.TicketError{
			Fault:  auth.TicketSpent,
			Detail: "join: the ticket was used before; each one is good once",
		}
	}
	return Entry{
		Player: t.Player,
		Name:   t.Name,
		Role:   role,
		key:    t.Key,
		number: t.Number,
	}, nil
}

// Return makes the ticket of who was not seated good again.
func (d *Door) Return(e Entry) {
	if e.number == "" {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := d.records.ReturnTicket(ctx, e.key, e.number); err != nil {
		slog.Warn("a ticket that was used for nothing could not be made good again", "error", err)
	}
}

// refuseBanned returns a *BannedError for a player that may not join sessions of a contract; nil for others.
func (d *Door) refuseBanned(player, contract string) error {
	d.mu.RLock()
	defer d.mu.RUnlock()
	now := time.Now()
	for _, key := range []banKey{{player, contract}, {player, ""}} {
		if b, known := d.bans[key]; known && (b.Until == nil || now.Before(*b.Until)) {
			return &BannedError{banText(b, now)}
		}
	}
	return nil
}

// banText says what a ban is.
func banText(b store.Ban, now time.Time) string {
	text := "you are banned"
	if b.Until != nil {
		text += fmt.Sprintf(" for another %s", b.Until.Sub(now).Round(time.Minute))
	}
	if b.Reason != "" {
		text += ": " + b.Reason
	}
	return text
}
