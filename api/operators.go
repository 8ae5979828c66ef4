package api

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// Codes of who may not call, in problems of the statuses 401 and 403.
const (
	CodeTokenMissing = "token_missing"
	CodeTokenWrong   = "token_wrong"
	CodeTokenExpired = "token_expired"
	CodeTokenRevoked = "token_revoked"
	CodeSignedOut    = "signed_out"
	CodeRightMissing = "right_missing"
)

// Operator is who calls.
type Operator struct {
	Name    string `json:"name"`
	Right   string `json:"right"`   // look, play or run, of which each includes those before it
	Open    bool   `json:"open"`    // the service wants no tokens
	Tickets bool   `json:"tickets"` // clients join by tickets alone
}

// Token is a token of an operator.
type Token struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"` // whose it is
	Right     string     `json:"right"`
	MadeBy    string     `json:"made_by"`
	MadeAt    time.Time  `json:"made_at"`
	ExpiresAt *time.Time `json:"expires_at,omitempty"`
	UsedAt    *time.Time `json:"used_at,omitempty"` // last, to the minute
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
	Token     string     `json:"token,omitempty"` // its text, in the answer to who makes it alone
}

// NewToken says what token to make.
type NewToken struct {
	Name    string `json:"name"`
	Right   string `json:"right"`
	Seconds int64  `json:"seconds,omitempty"` // that it is good for; 0 is for ever
}

// Ban keeps a player from joining.
type Ban struct {
	Player   string     `json:"player"`             // its identity, or its name where there are no tickets
	Contract string     `json:"contract,omitempty"` // of whose sessions; empty for all
	Reason   string     `json:"reason,omitempty"`
	By       string     `json:"by"`
	At       time.Time  `json:"at"`
	Until    *time.Time `json:"until,omitempty"` // missing for good
}

// SetBan says whom to ban.
type SetBan struct {
	Player   string `json:"player"`
	Contract string `json:"contract,omitempty"`
	Reason   string `json:"reason,omitempty"`
	Seconds  int64  `json:"seconds,omitempty"` // that it holds; 0 is for good
}

// LiftBan says whom to let in again.
type LiftBan struct {
	Player   string `json:"player"`
	Contract string `json:"contract,omitempty"` // as in the ban
}

// SignIn is how a browser signs in: the token is traded for a cookie.
type SignIn struct {
	Token string `json:"token"`
}

// Act is something that an operator has done.
type Act struct {
	Session  int64     `json:"session,omitempty"`
	At       time.Time `json:"at"`
	Operator string    `json:"operator"`
	Act      string    `json:"act"`
}

// BackendCall is what the game's backend is told, as it gets it. Number is its own: what comes twice has the same.
type BackendCall struct {
	Number   int64     `json:"number"`
	Event    string    `json:"event"` // join, leave or end
	At       time.Time `json:"at"`
	Session  int64     `json:"session"`
	Contract string    `json:"contract"`
	Version  int       `json:"version"`
	Client   int       `json:"client,omitempty"` // of join and leave
	Player   string    `json:"player,omitempty"` // its identity, when a ticket has proven it
	Name     string    `json:"name,omitempty"`
	Role     string    `json:"role,omitempty"`
	Reason   string    `json:"reason,omitempty"` // of leave and end
	Tick     int64     `json:"tick,omitempty"`   // of end: the last one
	// Result is what the session came to, of end; null for none.
	Result json.RawMessage `json:"result,omitempty"`
}

// BackendTry is a call with what has come of it.
type BackendTry struct {
	BackendCall
	Tries      int        `json:"tries"`
	Error      string     `json:"error,omitempty"`   // of the last try
	NextAt     *time.Time `json:"next_at,omitempty"` // when it is tried again, if it has to be
	AnsweredAt *time.Time `json:"answered_at,omitempty"`
}

// BackendCalls lists what the game's backend is told, what waits first, then the newest.
func (c Client) BackendCalls(ctx context.Context) (out []BackendTry, err error) {
	err = c.call(ctx, "GET", "/api/backend", nil, &out)
	return out, err
}

// Me says who the client is to the service.
func (c Client) Me(ctx context.Context) (out Operator, err error) {
	err = c.call(ctx, "GET", "/api/me", nil, &out)
	return out, err
}

// Tokens lists the tokens of operators, newest first.
func (c Client) Tokens(ctx context.Context) (out []Token, err error) {
	err = c.call(ctx, "GET", "/api/tokens", nil, &out)
	return out, err
}

// MakeToken makes a token, whose text is in the answer alone.
func (c Client) MakeToken(ctx context.Context, t NewToken) (out Token, err error) {
	err = c.call(ctx, "POST", "/api/tokens", t, &out)
	return out, err
}

// RevokeToken makes a token void at once, and lists all.
func (c Client) RevokeToken(ctx context.Context, id int64) (out []Token, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/api/tokens/%d/revoke", id), nil, &out)
	return out, err
}

// Bans lists who is banned, newest first.
func (c Client) Bans(ctx context.Context) (out []Ban, err error) {
	err = c.call(ctx, "GET", "/api/bans", nil, &out)
	return out, err
}

// Ban keeps a player out and takes its seats, and lists who is banned.
func (c Client) Ban(ctx context.Context, b SetBan) (out []Ban, err error) {
	err = c.call(ctx, "POST", "/api/bans", b, &out)
	return out, err
}

// LiftBan lets a player in again, and lists who is banned.
func (c Client) LiftBan(ctx context.Context, player, contract string) (out []Ban, err error) {
	err = c.call(ctx, "POST", "/api/bans/lift", LiftBan{Player: player, Contract: contract}, &out)
	return out, err
}

// Acts lists what operators have done to a session, or with 0 to anything, newest first.
func (c Client) Acts(ctx context.Context, session int64) (out []Act, err error) {
	path := "/api/acts"
	if session != 0 {
		path = fmt.Sprintf("/api/sessions/%d/acts", session)
	}
	err = c.call(ctx, "GET", path, nil, &out)
	return out, err
}
