package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/service/problems"
	"kamerad.example/store"
)

// Operators keep tokens, bans and who did what.
type Operators interface {
	Tokens(ctx context.Context) ([]store.Token, error)
	AddToken(ctx context.Context, t store.Token, hash []byte) (store.Token, error)
	RevokeToken(ctx context.Context, id int64) error
	SignIn(ctx context.Context, token int64, hash []byte, until time.Time) error
	SignOut(ctx context.Context, hash []byte) error
	Bans(ctx context.Context) ([]store.Ban, error)
	SetBan(ctx context.Context, b store.Ban) error
	LiftBan(ctx context.Context, player, contract string) error
	AddAct(ctx context.Context, a store.Act) error
	Acts(ctx context.Context, session int64, limit int) ([]store.Act, error)
	BackendCalls(ctx context.Context, limit int) ([]store.BackendCall, error)
}

// me says who calls.
func (a *API) me(r *http.Request) (api.Operator, error) {
	return a.describeOperator(operatorOf(r)), nil
}

// describeOperator returns who somebody is as the API tells it.
func (a *API) describeOperator(who auth.Operator) api.Operator {
	return api.Operator{
		Name:    who.Name,
		Right:   string(who.Right),
		Open:    !a.door.WantsTokens(),
		Tickets: a.door.WantsTickets(),
	}
}

// signedInFor is how long a browser stays signed in.
const signedInFor = 12 * time.Hour

// signIn signs a browser in: it trades a token for a cookie that no script can read and that no page from elsewhere
// sends.
func (a *API) signIn(w http.ResponseWriter, r *http.Request) {
	out, cookie, err := a.newSignIn(w, r)
	if err != nil {
		a.refuse(w, r, err)
		return
	}
	if cookie != "" {
		a.setCookie(w, r, cookie, signedInFor)
	}
	a.send(w, r, out)
}

// newSignIn reads the token of who signs in, and returns the text of the cookie; it is empty where nobody has to.
func (a *API) newSignIn(w http.ResponseWriter, r *http.Request) (out api.Operator, cookie string, err error) {
	if !callerOf(r).address.MayTry() {
		return out, "", errTooManyTries
	}
	if err := a.readBody(w, r); err != nil {
		return out, "", err
	}
	var in api.SignIn
	if err := read(r, &in); err != nil {
		return out, "", err
	}
	who, err := a.door.Operator(in.Token)
	if err != nil {
		return out, "", unauthorized(err)
	}
	out = a.describeOperator(who)
	if who.Token == 0 { // the service is open
		return out, "", nil
	}
	cookie = auth.NewToken()
	until := time.Now().Add(signedInFor)
	if err := a.operators.SignIn(r.Context(), who.Token, auth.HashToken(cookie), until); err != nil {
		return out, "", err
	}
	return out, cookie, a.door.Refresh(r.Context())
}

// signOut signs a browser out.
func (a *API) signOut(w http.ResponseWriter, r *http.Request) {
	if cookie, err := r.Cookie(signInCookie); err == nil && a.operators != nil {
		err := a.operators.SignOut(r.Context(), auth.HashToken(cookie.Value))
		if err == nil {
			err = a.door.Refresh(r.Context())
		}
		if err != nil {
			a.refuse(w, r, err)
			return
		}
	}
	a.setCookie(w, r, "", -time.Second)
	w.WriteHeader(http.StatusNoContent)
}

// setCookie gives a browser its cookie for a time; a negative one takes it away.
func (a *API) setCookie(w http.ResponseWriter, r *http.Request, value string, life time.Duration) {
	http.SetCookie(w, &http.Cookie{
		Name:     signInCookie,
		Value:    value,
		Path:     "/",
		MaxAge:   int(life / time.Second),
		Secure:   callerOf(r).isSecure,
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
	})
}

// describeToken returns a token as the API tells it.
func describeToken(t store.Token) api.Token {
	return api.Token{
		ID:        t.ID,
		Name:      t.Name,
		Right:     t.Access,
		MadeBy:    t.MadeBy,
		MadeAt:    t.MadeAt,
		ExpiresAt: t.ExpiresAt,
		UsedAt:    t.UsedAt,
		RevokedAt: t.RevokedAt,
	}
}

// listTokens lists the tokens of operators, newest first.
func (a *API) listTokens(r *http.Request) ([]api.Token, error) {
	list, err := a.operators.Tokens(r.Context())
	out := make([]api.Token, 0, len(list))
	for _, t := range list {
		out = append(out, describeToken(t))
	}
	return out, err
}

// makeToken makes a token. Its text is in this answer alone.
func (a *API) makeToken(r *http.Request, in api.NewToken) (api.Token, error) {
	row, err := NewTokenRow(in, operatorOf(r).Name, time.Now())
	if err != nil {
		return api.Token{}, problems.BadRequest(err.Error())
	}
	text := auth.NewToken()
	row, err = a.operators.AddToken(r.Context(), row, auth.HashToken(text))
	if err != nil {
		return api.Token{}, err
	}
	a.note(r, 0, fmt.Sprintf("made the token %q that may %s", row.Name, row.Access))
	out := describeToken(row)
	out.Token = text
	return out, a.door.Refresh(r.Context())
}

// maxTokenLife is how long a token may be good for that is not good for ever, in seconds.
const maxTokenLife = 10 * 365 * 24 * 3600

// NewTokenRow returns the row of a token that is to be made.
func NewTokenRow(in api.NewToken, by string, now time.Time) (store.Token, error) {
	row := store.Token{Name: in.Name, MadeBy: by}
	right, err := auth.ParseRight(in.Right)
	switch {
	case err != nil:
		return row, fmt.Errorf("make a token: %w", err)
	case in.Name == "" || utf8.RuneCountInString(in.Name) > 64 || !utf8.ValidString(in.Name):
		return row, errors.New("make a token: say whose it is, in 1 to 64 characters")
	case in.Seconds < 0 || in.Seconds > maxTokenLife:
		return row, errors.New("make a token: it is good for 1 second to ten years; 0 is for ever")
	}
	row.Access = string(right)
	if in.Seconds > 0 {
		until := now.Add(time.Duration(in.Seconds) * time.Second)
		row.ExpiresAt = &until
	}
	return row, nil
}

// revokeToken makes a token void at once.
func (a *API) revokeToken(r *http.Request) ([]api.Token, error) {
	text := chi.URLParam(r, "token")
	id, err := strconv.ParseInt(text, 10, 64)
	if err == nil {
		err = a.operators.RevokeToken(r.Context(), id)
	}
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, strconv.ErrSyntax) || errors.Is(err, strconv.ErrRange) {
		return nil, &problems.Refusal{
			Status: http.StatusNotFound,
			Detail: fmt.Sprintf("there is no token %.20q; `kamerad token list` lists them by number", text),
		}
	}
	if err != nil {
		return nil, err
	}
	a.note(r, 0, fmt.Sprintf("revoked the token %d", id))
	if err := a.door.Refresh(r.Context()); err != nil {
		return nil, err
	}
	return a.listTokens(r)
}

// listBans lists the bans that hold, newest first.
func (a *API) listBans(r *http.Request) ([]api.Ban, error) {
	list, err := a.operators.Bans(r.Context())
	out := make([]api.Ban, 0, len(list))
	for _, b := range list {
		out = append(out, api.Ban{
			Player:   b.Player,
			Contract: b.Contract,
			Reason:   b.Reason,
			By:       b.By,
			At:       b.At,
			Until:    b.Until,
		})
	}
	return out, err
}

// maxBan is how long a ban may hold that does not hold for good, in seconds.
const maxBan = 100 * 365 * 24 * 3600

// ban keeps a player out, and takes the seats that it has.
func (a *API) ban(r *http.Request, in api.SetBan) ([]api.Ban, error) {
	switch {
	case in.Player == "" || len(in.Player) > auth.MaxPlayer:
		return nil, problems.BadRequest(
			fmt.Sprintf("ban: a player goes by its identity, or by its name, of 1 to %d bytes", auth.MaxPlayer),
		)
	case utf8.RuneCountInString(in.Reason) > 200:
		return nil, problems.BadRequest("ban: a reason has at most 200 characters")
	case in.Seconds < 0 || in.Seconds > maxBan:
		return nil, problems.BadRequest("ban: it holds for 1 second to a hundred years; 0 is for good")
	}
	if err := a.checkContract(r, in.Contract); err != nil {
		return nil, err
	}
	b := store.Ban{
		Player:   in.Player,
		Contract: in.Contract,
		Reason:   in.Reason,
		By:       operatorOf(r).Name,
	}
	if in.Seconds > 0 {
		until := time.Now().Add(time.Duration(in.Seconds) * time.Second)
		b.Until = &until
	}
	if err := a.operators.SetBan(r.Context(), b); err != nil {
		return nil, err
	}
	a.note(r, 0, fmt.Sprintf("banned %q: %s", in.Player, in.Reason))
	if err := a.door.Refresh(r.Context()); err != nil {
		return nil, err
	}
	return a.listBans(r)
}

// checkContract returns a refusal for a contract that there is not; an empty name stands for all.
func (a *API) checkContract(r *http.Request, name string) error {
	if name == "" {
		return nil
	}
	_, err := a.records.Version(r.Context(), name, 0)
	if errors.Is(err, store.ErrNotFound) {
		return problems.BadRequest(fmt.Sprintf("there is no contract %.80q", name))
	}
	return err
}

// liftBan lets a player in again.
func (a *API) liftBan(r *http.Request, in api.LiftBan) ([]api.Ban, error) {
	err := a.operators.LiftBan(r.Context(), in.Player, in.Contract)
	if errors.Is(err, store.ErrNotFound) {
		of := "all contracts"
		if in.Contract != "" {
			of = in.Contract
		}
		return nil, &problems.Refusal{
			Status: http.StatusNotFound,
			Detail: fmt.Sprintf("%.80q is not banned from %s; `kamerad player bans` lists who is", in.Player, of),
		}
	}
	if err != nil {
		return nil, err
	}
	a.note(r, 0, fmt.Sprintf("lifted the ban of %q", in.Player))
	if err := a.door.Refresh(r.Context()); err != nil {
		return nil, err
	}
	return a.listBans(r)
}

// noteWithin is how long a call waits for it to be stored who did what.
const noteWithin = 2 * time.Second

// note stores what who calls has done to a session, or with 0 to none. It is done by then: that it cannot be stored is
// logged, with what it is.
func (a *API) note(r *http.Request, session int64, act string) {
	who := operatorOf(r).Name
	slog.Info(
		"an operator did something", "request", middleware.GetReqID(r.Context()), "operator", who, "session", session,
		"act", act,
	)
	if a.operators == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), noteWithin)
	defer cancel()
	if err := a.operators.AddAct(ctx, store.Act{Session: session, Operator: who, Act: act}); err != nil {
		slog.Error("it cannot be stored who did what", "operator", who, "session", session, "act", act, "error", err)
	}
}

// acts lists what operators have done to a session, newest first.
func (a *API) acts(r *http.Request) ([]api.Act, error) {
	s, err := a.session(r)
	if err != nil {
		return nil, err
	}
	return a.listActs(r, s.ID)
}

// allActs lists what operators have done, newest first.
func (a *API) allActs(r *http.Request) ([]api.Act, error) { return a.listActs(r, 0) }

// maxActs is how many are listed.
const maxActs = 1000

// listActs lists what operators have done to a session, or with 0 to anything.
func (a *API) listActs(r *http.Request, session int64) ([]api.Act, error) {
	out := []api.Act{}
	if a.operators == nil {
		return out, nil
	}
	list, err := a.operators.Acts(r.Context(), session, maxActs)
	for _, x := range list {
		out = append(out, api.Act{Session: x.Session, At: x.At, Operator: x.Operator, Act: x.Act})
	}
	return out, err
}

// maxBackendCalls is how many calls are listed.
const maxBackendCalls = 200

// backendCalls lists what the game's backend is told, what waits first, then the newest.
func (a *API) backendCalls(r *http.Request) ([]api.BackendTry, error) {
	list, err := a.operators.BackendCalls(r.Context(), maxBackendCalls)
	out := make([]api.BackendTry, 0, len(list))
	for _, c := range list {
		x := api.BackendTry{Tries: c.Tries, Error: c.Error, AnsweredAt: c.AnsweredAt}
		if c.AnsweredAt == nil {
			x.NextAt = &c.NextAt
		}
		x.BackendCall = api.BackendCall{
			Number:   c.Number,
			Event:    c.Event,
			At:       c.At,
			Session:  c.Session,
			Contract: c.Contract,
			Version:  c.Version,
		}
		if err := json.Unmarshal(c.Payload, &x.BackendCall); err != nil {
			return nil, fmt.Errorf("read call %d of the backend: %w", c.Number, err)
		}
		out = append(out, x)
	}
	return out, err
}
