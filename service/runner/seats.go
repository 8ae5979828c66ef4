package runner

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"slices"
	"time"

	"golang.org/x/time/rate"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
	"kamerad.example/journal"
	"kamerad.example/store"
)

// seat is the place of a client in the session, from when it joins until it leaves. The runner's goroutine owns it.
type seat struct {
	row     store.Seat // as it is stored
	state   seatState
	tokens  []tokenHash // of those that take the seat again, oldest first
	test    bool        // its client was opened through the API
	address string      // see SeatRequest; of its last connection
	lease   lease       // of what its player keeps; also once the session has ended the client's seat

	logLimit *rate.Limiter // of the lines of its log; nil before the first one
}

// seatState says whether a seat has a connection, and whether its client has ever said that it is ready.
type seatState uint8

const (
	seatJoined    seatState = iota // connected; its client has not said yet that it is ready
	seatPlaying                    // connected, and its client is ready
	seatLostEarly                  // the connection was lost before its client was ready
	seatWaiting                    // the connection of a client that was ready is lost
	seatStates                     // how many there are
)

// connected reports whether the seat has a connection.
func (s seatState) connected() bool { return s == seatJoined || s == seatPlaying }

// ready reports whether the seat's client has said that it is ready, on some connection.
func (s seatState) ready() bool { return s == seatPlaying || s == seatWaiting }

// seatEvent is what changes the state of a seat.
type seatEvent uint8

const (
	clientReady    seatEvent = iota // the client has said that it is ready
	connectionLost                  // the connection was lost, and the seat waits for another one
	connectionCame                  // a connection took the seat with its token
	seatEvents                      // how many there are
)

// seatTransitions is the state that a seat has after an event. That a client leaves ends the seat in any state.
var seatTransitions = [seatStates][seatEvents]seatState{
	seatJoined:    {clientReady: seatPlaying, connectionLost: seatLostEarly, connectionCame: seatJoined},
	seatPlaying:   {clientReady: seatPlaying, connectionLost: seatWaiting, connectionCame: seatPlaying},
	seatLostEarly: {clientReady: seatLostEarly, connectionLost: seatLostEarly, connectionCame: seatJoined},
	seatWaiting:   {clientReady: seatWaiting, connectionLost: seatWaiting, connectionCame: seatPlaying},
}

// on brings the seat into the state that follows an event.
func (s *seat) on(e seatEvent) { s.state = seatTransitions[s.state][e] }

// SeatRequest is how a client asks for a seat.
type SeatRequest struct {
	wire.Join
	Player  string  // the identity of the player that a ticket has proven; empty for none
	Test    bool    // the client was opened through the API
	Address string  // that its connection comes from, without its port; empty for a client within the service
	loaded  *loaded // for it, by Prepare; nil for nothing
}

// Seating is what a client gets that was given a seat.
type Seating struct {
	Hello wire.Hello // its first message; the protocol is left to the connection
	// ByToken says that the seat was taken with a token, which stays good until something comes over the connection:
	// nobody knows before that whether the client has got the hello with the new one. KeepToken then has to be called.
	ByToken bool
	// Stored waits until the seat and its token are stored, so that they outlive the process; the client is to be told
	// of them only then. Nil when nothing is stored.
	Stored func(ctx context.Context) error
}

// tokenHash is what is kept of a token: who sees it cannot take the seat.
type tokenHash = [sha256.Size]byte

// TakeSeat gives a client a seat, or the one again that its token is for; a connection that has that seat ends. It is
// called on the runner's goroutine. The error of a client that is not seated is a *Refusal or a *session.Refusal.
func (r *Runner) TakeSeat(j SeatRequest) (Seating, error) {
	if own := r.outline.Fingerprint(); j.Outline != "" && j.Outline != own {
		return Seating{}, &Refusal{
			Code: api.CodeOtherOutline,
			Detail: fmt.Sprintf(
				"join: this client was made for the outline %.40s, and the session's is %s; what it gives clients "+
					"stands under outline",
				j.Outline, own,
			),
		}
	}
	n, known := r.seatByToken[journal.HashToken(j.Token)]
	if s := r.seatOf(j.Player); s != nil && !known {
		if !isSameSeat(s, j) {
			return Seating{}, &Refusal{
				Code:   api.CodeBusy,
				Detail: "join: the player is being seated under another name",
			}
		}
		n = s.row.Client
		known = true
	}
	if !known && j.Token != "" {
		return Seating{}, &Refusal{
			Code:   api.CodeTokenSpent,
			Detail: "join: no seat waits for this token; join anew",
		}
	}
	if known {
		r.connections.Replace(n)
		r.session.Back(n, j.Seen)
		r.noteInTranscript(syntax.MoveBack, n)
		r.seats[n].on(connectionCame)
	} else {
		var err error
		n, err = r.session.JoinPlayer(j.Player, j.Name, j.Role)
		if err != nil {
			return Seating{}, err
		}
		if j.loaded != nil {
			r.session.LoadKept(n, session.Kept{Fence: j.loaded.kept.Fence, Values: j.loaded.kept.Values})
			j.loaded.isSeated = true
		}
		r.addSeat(n)
	}
	s := r.seats[n]
	s.test = j.Test
	s.address = j.Address
	out := Seating{Hello: r.hello(s, j), ByToken: known}
	if r.log != nil {
		out.Stored = r.log.Flush()
	}
	return out, nil
}

// seatOf returns the seat of a player whose identity was proven; nil for none.
func (r *Runner) seatOf(player string) *seat {
	if player == "" {
		return nil
	}
	for _, s := range r.seats {
		if s.row.Player == player {
			return s
		}
	}
	return nil
}

// isSameSeat reports whether a player asks for the seat that it has: under the name that it has there, and in the role.
func isSameSeat(s *seat, j SeatRequest) bool {
	return s.row.Name == j.Name && (j.Role == "" || s.row.Role == j.Role)
}

// returnToSeat reports whether a player whose identity was proven has the seat that it asks for, and may take it again
// as with its token. The seat that it has under another name, or in another role, it leaves.
func (r *Runner) returnToSeat(j SeatRequest) bool {
	s := r.seatOf(j.Player)
	if s == nil {
		return false
	}
	if isSameSeat(s, j) {
		return true
	}
	r.Leave(s.row.Client, "the player has joined again, in another role or under another name")
	return false
}

// recoverSeats makes the seats of a session that goes on: they wait for their clients.
func (r *Runner) recoverSeats(tokens map[int][][]byte) {
	for _, c := range r.session.Clients() {
		s := &seat{state: seatWaiting, row: r.newSeatRow(c), lease: r.leaseOf(c.Number)}
		for _, hash := range tokens[c.Number] {
			if len(hash) == sha256.Size {
				s.tokens = append(s.tokens, tokenHash(hash))
				r.seatByToken[tokenHash(hash)] = c.Number
			}
		}
		r.seats[c.Number] = s
		r.storeSeat(s.row) // a version before this one may not have stored it
		r.watchers.observer.Joined(c.Number)
		r.meters.clients.Inc()
		r.waitForReturn(s, r.now())
	}
}

// leaseOf returns the lease with which a client was seated.
func (r *Runner) leaseOf(client int) lease {
	player, fence := r.session.KeptFence(client)
	return lease{player, fence}
}

// newSeatRow returns the row of a client's seat.
func (r *Runner) newSeatRow(c wire.Client) store.Seat {
	return store.Seat{
		Session:  r.row.ID,
		Client:   c.Number,
		Player:   r.session.Identity(c.Number),
		Name:     c.Name,
		Role:     c.Role,
		JoinedAt: time.Now(),
	}
}

// addSeat makes the seat of a client that has joined the session.
func (r *Runner) addSeat(n int) {
	me := r.client(n)
	if r.transcript != nil {
		r.transcript.Joined(me)
	}
	row := r.newSeatRow(me)
	r.seats[n] = &seat{row: row, lease: r.leaseOf(n)}
	r.watchers.observer.Joined(n)
	r.storeSeat(row)
	r.meters.clients.Inc()
}

// client returns a client of the session by its number.
func (r *Runner) client(n int) wire.Client {
	clients := r.session.Clients()
	return clients[slices.IndexFunc(clients, func(c wire.Client) bool { return c.Number == n })]
}

// hello returns the first message to a client that was seated, with a new token.
func (r *Runner) hello(s *seat, j SeatRequest) wire.Hello {
	hello := wire.Hello{
		Type:        wire.MessageHello,
		Revision:    wire.Revision,
		Client:      r.client(s.row.Client),
		Token:       r.grantToken(s, j.Token),
		Received:    r.session.Received(s.row.Client),
		GraceMs:     r.grace().Milliseconds(),
		Fingerprint: r.outline.Fingerprint(),
		Outline:     r.outline,
		Settings:    r.settings,
	}
	if j.Outline != "" {
		hello.Outline = nil // it has it
	}
	return hello
}

// grace is how long a seat waits for another connection of a client that was ready.
func (r *Runner) grace() time.Duration {
	c := r.session.Contract()
	return time.Duration(c.Grace) * time.Second / time.Duration(c.TickRate)
}

// maxTokens is how many tokens of one seat are good at once.
const maxTokens = 8

// grantToken returns another token for a seat, which was taken with one, or with none. Those that were given before it
// are void, since the client has it. Those that were given since stay good until something comes over a connection: any
// of their hellos may have arrived, or none. Of many the oldest go.
func (r *Runner) grantToken(s *seat, taken string) string {
	token := rand.Text()
	hash := journal.HashToken(token)
	spent := max(slices.Index(s.tokens, journal.HashToken(taken)), 0)
	for _, old := range s.tokens[:spent] {
		delete(r.seatByToken, old)
	}
	s.tokens = append(slices.Clone(s.tokens[spent:]), hash)
	if len(s.tokens) > maxTokens {
		delete(r.seatByToken, s.tokens[1])
		s.tokens = slices.Delete(s.tokens, 1, 2)
	}
	r.seatByToken[hash] = s.row.Client
	r.storeTokens(s)
	return token
}

// KeepToken voids all tokens of a client's seat but one: the client has that. It is called on the runner's goroutine.
func (r *Runner) KeepToken(client int, token string) {
	if s := r.seats[client]; s != nil {
		hash := journal.HashToken(token)
		r.voidTokens(s, hash)
		s.tokens = []tokenHash{hash}
		r.storeTokens(s)
	}
}

// storeTokens stores which tokens are good for a seat.
func (r *Runner) storeTokens(s *seat) {
	if r.log != nil {
		r.log.Tokens(s.row.Client, s.tokens)
	}
}

// voidTokens voids the tokens of a seat, but for one that is kept; its zero value keeps none.
func (r *Runner) voidTokens(s *seat, kept tokenHash) {
	for _, token := range s.tokens {
		if token != kept {
			delete(r.seatByToken, token)
		}
	}
}

// Lose ends the connection of a client that is gone; its seat waits for another one for as long as the contract says.
// It is called on the runner's goroutine.
func (r *Runner) Lose(client int, reason string) {
	s := r.seats[client]
	if s == nil {
		return
	}
	if r.session.Contract().Grace == 0 {
		r.Leave(client, reason)
		return
	}
	s.on(connectionLost)
	r.session.Lost(client)
	r.noteInTranscript(syntax.MoveCut, client)
	r.connections.End(client, reason)
	r.waitForReturn(s, r.now())
}

// Leave takes a client's seat, if it has one, and tells the client why. It is called on the runner's goroutine.
func (r *Runner) Leave(client int, reason string) {
	s := r.seats[client]
	if s == nil {
		return
	}
	if s.lease.fence > 0 {
		r.leaving = append(r.leaving, s.lease)
	}
	r.session.Leave(client)
	r.noteInTranscript(syntax.MoveLeave, client)
	r.connections.End(client, reason)
	r.clearSeat(client, s, reason)
}

// clearSeat forgets a seat that has ended, and stores why it did.
func (r *Runner) clearSeat(client int, s *seat, reason string) {
	r.voidTokens(s, tokenHash{})
	s.tokens = nil
	r.storeTokens(s)
	delete(r.seats, client)
	r.watchers.observer.Left(client)
	delete(r.refusedLimits, client)
	r.recordLeft(s, reason)
}

// storeSeat stores a seat as it is now: with the calls of the session, when they are recorded.
func (r *Runner) storeSeat(row store.Seat) {
	if r.log != nil {
		r.log.Seat(row)
		return
	}
	r.recorder.Seat(row)
}

// recordLeft stores that a client has left its seat, and why.
func (r *Runner) recordLeft(s *seat, reason string) {
	now := time.Now()
	s.row.LeftAt = &now
	s.row.LeftReason = &reason
	r.storeSeat(s.row)
	r.meters.clients.Dec()
}

// noteInTranscript puts into the transcript that a client leaves, or that its connection is cut or back.
func (r *Runner) noteInTranscript(verb syntax.DrillMoveVerb, client int) {
	if r.transcript != nil {
		r.transcript.Moved(verb, client)
	}
}

// lostSeat is a seat whose connection is gone and that waits for another one.
type lostSeat struct {
	client  int
	address string // that it was taken from; empty for a client within the service
	until   time.Time
}

const (
	// neverReady is how long the seat of a client waits that was lost before it had said that it is ready. Who only
	// opens connections and drops them holds few seats.
	neverReady = 2 * time.Second
	// expireEvery is how often seats that have waited long enough are looked for.
	expireEvery = time.Second / 4
)

// waitForReturn makes a seat whose connection was lost wait for another one, and gives the oldest of its address away
// when too many wait: nothing says yet who a client is, and one address could hold all seats of a session.
func (r *Runner) waitForReturn(s *seat, now time.Time) {
	until := now.Add(r.grace())
	if !s.state.ready() {
		until = now.Add(min(neverReady, until.Sub(now)))
	}
	client := s.row.Client
	// it was back meanwhile
	r.lostSeats = slices.DeleteFunc(r.lostSeats, func(l lostSeat) bool { return l.client == client })
	r.lostSeats = append(r.lostSeats, lostSeat{client, s.address, until})
	if s.address == "" {
		return
	}
	same := 0
	oldest := -1
	for i, l := range r.lostSeats {
		if l.address == s.address && r.waits(l.client) {
			same++
			if oldest < 0 {
				oldest = i
			}
		}
	}
	if same > max(4, r.session.Contract().Seats/2) {
		r.Leave(
			r.lostSeats[oldest].client, "its connection was lost, and too many seats of its address wait for theirs",
		)
		r.lostSeats = slices.Delete(r.lostSeats, oldest, oldest+1)
	}
}

// waits reports whether a client has a seat that has no connection.
func (r *Runner) waits(client int) bool {
	s := r.seats[client]
	return s != nil && !s.state.connected()
}

// endExpiredSeats ends the seats that have waited long enough.
func (r *Runner) endExpiredSeats(now time.Time) {
	if now.Sub(r.lastExpiry) < expireEvery {
		return
	}
	r.lastExpiry = now
	kept := r.lostSeats[:0]
	for _, l := range r.lostSeats {
		switch {
		case !r.waits(l.client): // it is gone, or back
		case now.After(l.until):
			r.Leave(l.client, "its connection was lost and did not come back in time")
		default:
			kept = append(kept, l)
		}
	}
	r.lostSeats = kept
}
