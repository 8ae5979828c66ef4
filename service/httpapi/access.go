package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/service/door"
	"kamerad.example/service/problems"
)

// signInCookie is the cookie of a browser that is signed in.
const signInCookie = "kamerad_sign_in"

// operatorKey is where a request's context has the operator.
type operatorKey struct{}

// operatorOf returns who calls. A handler that stands behind need has one.
func operatorOf(r *http.Request) auth.Operator {
	o, _ := r.Context().Value(operatorKey{}).(auth.Operator)
	return o
}

// mayLookInside reports whether who calls may see what no client may: seeds, and properties that are nobody's.
func mayLookInside(r *http.Request) bool { return operatorOf(r).Right.Includes(auth.Run) }

// need lets only those call a handler who have a right.
func (a *API) need(right auth.Right, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who, err := a.identify(r)
		if err == nil && !who.Right.Includes(right) {
			err = &problems.Refusal{
				Status: http.StatusForbidden,
				Code:   api.CodeRightMissing,
				Detail: fmt.Sprintf(
					"%s %s takes the right to %s; the token %q may %s",
					r.Method,
					r.URL.Path,
					right,
					who.Name,
					who.Right,
				),
			}
		}
		if err != nil {
			a.refuse(w, r, err)
			return
		}
		next(w, r.WithContext(context.WithValue(r.Context(), operatorKey{}, who)))
	}
}

// errTooManyTries refuses to look at what an address sends that has sent too many wrong tokens.
var errTooManyTries = &problems.Refusal{
	Status: http.StatusTooManyRequests,
	Code:   api.CodeTooMany,
	Detail: "too many wrong tokens have come from your address; try again in a moment",
}

// refuse answers a call with an error. Wrong tokens count against their address.
func (a *API) refuse(w http.ResponseWriter, r *http.Request, err error) {
	p := problems.Of(err, r)
	switch p.Status {
	case http.StatusUnauthorized:
		from := callerOf(r).address
		if p.Code != api.CodeTokenMissing && !from.MayTry() {
			p = problems.Of(errTooManyTries, r)
			w.Header().Set("Connection", "close")
			break
		}
		if p.Code != api.CodeTokenMissing {
			from.Failed()
		}
		w.Header().Set("WWW-Authenticate", `Bearer realm="kamerad"`)
	case http.StatusTooManyRequests:
		w.Header().Set("Connection", "close")
	}
	if err := checkAnswer(r, p.Status, api.Encode(p)); err != nil {
		p = problems.Of(err, r)
	}
	problems.Send(w, p)
}

// addressOf returns what has come from the address of a call; nil when that is not counted.
func addressOf(r *http.Request) *door.Address { return callerOf(r).address }

// identify returns who calls: by the token of the header Authorization (RFC 6750), else by the cookie of a browser.
//
// A page from elsewhere has been turned away by now, when the browser says where it is from. Whoever changes something
// by a cookie has to say it.
func (a *API) identify(r *http.Request) (auth.Operator, error) {
	if who, isInside := r.Context().Value(insideKey{}).(auth.Operator); isInside {
		return who, nil
	}
	if given := r.Header.Get("Authorization"); given != "" {
		scheme, token, _ := strings.Cut(given, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return auth.Operator{}, unauthorized(door.ErrNoToken)
		}
		who, err := a.door.Operator(strings.TrimSpace(token))
		return who, unauthorized(err)
	}
	cookie, err := r.Cookie(signInCookie)
	if err != nil {
		who, err := a.door.Operator("")
		return who, unauthorized(err)
	}
	who, err := a.door.SignedIn(cookie.Value)
	isRead := r.Method == http.MethodGet || r.Method == http.MethodHead
	if err == nil && !isRead && r.Header.Get("Origin") == "" && a.door.WantsTokens() {
		return auth.Operator{}, &problems.Refusal{
			Status: http.StatusForbidden,
			Detail: "who is signed in changes things from the console alone; programs send their token as " +
				"Authorization: " +
				"Bearer …",
		}
	}
	return who, unauthorized(err)
}

// unauthorizedCodes are the codes of who is no operator.
var unauthorizedCodes = map[error]string{
	door.ErrNoToken:      api.CodeTokenMissing,
	door.ErrWrongToken:   api.CodeTokenWrong,
	door.ErrTokenExpired: api.CodeTokenExpired,
	door.ErrTokenRevoked: api.CodeTokenRevoked,
	door.ErrSignedOut:    api.CodeSignedOut,
}

// unauthorized returns what who calls is told of an error of the door; nil for none.
func unauthorized(err error) error {
	for known, code := range unauthorizedCodes {
		if errors.Is(err, known) {
			return &problems.Refusal{Status: http.StatusUnauthorized, Code: code, Detail: err.Error()}
		}
	}
	return err
}
