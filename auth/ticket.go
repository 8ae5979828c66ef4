package auth

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
)

// Audience is the `aud` of a ticket: who signs other tokens with the same key signs no tickets by it.
const Audience = "kamerad"

// Bounds of tickets.
const (
	// ClockSkew is by how much clocks may differ.
	ClockSkew = time.Minute
	// MaxTicketLife is how long a ticket may be good for: its number is kept as long.
	MaxTicketLife = 24 * time.Hour
	// MaxTicket is how many bytes a ticket has at most.
	MaxTicket = 3 << 10
	// MaxPlayer is how many bytes a player's identity has at most.
	MaxPlayer = 128
)

// Fault is what is wrong with a ticket. Its text is what a client is told as the code of its refusal.
type Fault string

// The faults of tickets.
const (
	TicketMissing  Fault = "ticket_missing"  // none came, and the service wants one
	TicketUnwanted Fault = "ticket_unwanted" // one came, and the service has no keys
	TicketUnfit    Fault = "ticket_unfit"    // it is no ticket, or one that says too little or too much
	TicketKey      Fault = "ticket_key"      // no key of the service has signed it, or with another algorithm
	TicketAltered  Fault = "ticket_altered"  // its signature is not right
	TicketExpired  Fault = "ticket_expired"
	TicketEarly    Fault = "ticket_early"   // it is not good yet: clocks differ by more than a minute
	TicketSpent    Fault = "ticket_spent"   // it was used before
	TicketSession  Fault = "ticket_session" // it is for another session, or for another contract
	TicketRole     Fault = "ticket_role"    // it does not give the role that was asked for
	TicketName     Fault = "ticket_name"    // it is for another name
)

// Faults returns all faults.
func Faults() []Fault {
	return []Fault{
		TicketMissing, TicketUnwanted, TicketUnfit, TicketKey, TicketAltered, TicketExpired, TicketEarly, TicketSpent,
		TicketSession, TicketRole, TicketName,
	}
}

// TicketError is the error of a ticket that is not taken.
type TicketError struct {
	Fault  Fault
	Detail string // for the client's programmer; it quotes no ticket
}

// Error says what is wrong.
func (e *TicketError) Error() string { return e.Detail }

// refuse makes the error of a ticket.
func refuse(fault Fault, format string, args ...any) *TicketError {
	return &TicketError{fault, fmt.Sprintf(format, args...)}
}

// Ticket lets one player join once.
type Ticket struct {
	Player   string // identity, of 1 to MaxPlayer printable ASCII characters without a space; what is kept goes by it
	Name     string // that others see
	Role     string // empty for any that the contract gives without a ticket
	Session  int64  // that it is for; 0 for any session of the contract
	Contract string // that it is for; empty when it is for one session
	Number   string // its own; good once
	Key      string // the name of the key that signed it
	Expires  time.Time
}

// claims are a ticket as a JSON Web Token has it.
type claims struct {
	jwt.RegisteredClaims
	Session  int64  `json:"session,omitempty"`
	Contract string `json:"contract,omitempty"`
	Name     string `json:"name"`
	Role     string `json:"role,omitempty"`
}

// Sign makes a ticket, which is good from now on. Its Number is made when it has none; its Key is left to k.
func Sign(k Key, t Ticket, now time.Time) (string, error) {
	if k.private == nil {
		return "", fmt.Errorf("make a ticket: the key %s only checks tickets; the private one makes them", k.Name)
	}
	if t.Number == "" {
		t.Number = rand.Text()
	}
	if life := t.Expires.Sub(now); life <= 0 || life > MaxTicketLife {
		return "", fmt.Errorf("make a ticket: it is good for more than nothing and at most %s", MaxTicketLife)
	}
	if err := t.check(); err != nil {
		return "", fmt.Errorf("make a ticket: %w", err)
	}
	method := jwt.SigningMethod(jwt.SigningMethodEdDSA)
	if k.Algorithm == HS256 {
		method = jwt.SigningMethodHS256
	}
	token := jwt.NewWithClaims(method, claims{
		RegisteredClaims: jwt.RegisteredClaims{
			Subject:   t.Player,
			ID:        t.Number,
			Audience:  jwt.ClaimStrings{Audience},
			IssuedAt:  jwt.NewNumericDate(now),
			ExpiresAt: jwt.NewNumericDate(t.Expires),
		},
		Session:  t.Session,
		Contract: t.Contract,
		Name:     t.Name,
		Role:     t.Role,
	})
	token.Header["kid"] = k.Name
	out, err := token.SignedString(k.private)
	if err != nil {
		return "", fmt.Errorf("make a ticket: %w", err)
	}
	return out, nil
}

// check returns why a ticket says too little or too much; nil when it does not.
func (t Ticket) check() error {
	isPlain := func(r rune) bool { return r > ' ' && r <= '~' }
	notPlain := func(r rune) bool { return !isPlain(r) }
	switch {
	case t.Player == "" || len(t.Player) > MaxPlayer || strings.ContainsFunc(t.Player, notPlain):
		return fmt.Errorf("`sub`, the player's identity, has 1 to %d printable characters without spaces", MaxPlayer)
	case t.Number == "" || len(t.Number) > 64 || strings.ContainsFunc(t.Number, notPlain):
		return errors.New("`jti`, its own number, has 1 to 64 printable characters without spaces")
	case t.Name == "" || len(t.Name) > 400:
		return errors.New("`name` is what others call the player")
	case len(t.Role) > 100 || len(t.Contract) > 100:
		return errors.New("`role` and `contract` are names of a contract")
	case t.Session < 0 || (t.Session == 0) == (t.Contract == ""):
		return errors.New("it is either for one `session`, by its number, or for the sessions of one `contract`")
	}
	return nil
}

// Tickets checks tickets. It may be used by many goroutines.
type Tickets struct {
	// Keys returns the keys that may have signed tickets.
	Keys func() []Key
	// Now is the time.
	Now func() time.Time
}

// Read reads a ticket and checks its key, its signature and its time, the cheap parts first. Whether it was used
// before, and what it is for, is for the caller to see. The error is a *TicketError.
func (c *Tickets) Read(text string) (Ticket, error) {
	key, err := c.keyOf(text)
	if err != nil {
		return Ticket{}, err
	}
	now := c.Now()
	var in claims
	parser := jwt.NewParser(
		jwt.WithValidMethods([]string{string(key.Algorithm)}), jwt.WithAudience(Audience), jwt.WithExpirationRequired(),
		jwt.WithLeeway(ClockSkew), jwt.WithIssuedAt(), jwt.WithTimeFunc(func() time.Time { return now }),
	)
	_, err = parser.ParseWithClaims(text, &in, func(*jwt.Token) (any, error) { return key.public, nil })
	switch {
	case err == nil:
	case errors.Is(err, jwt.ErrTokenSignatureInvalid):
		return Ticket{}, refuse(
			TicketAltered,
			"the ticket was altered: its signature is not that of the key %s",
			key.Name,
		)
	case errors.Is(err, jwt.ErrTokenExpired):
		return Ticket{}, refuse(TicketExpired, "the ticket has expired; get a fresh one")
	case errors.Is(err, jwt.ErrTokenNotValidYet), errors.Is(err, jwt.ErrTokenUsedBeforeIssued):
		return Ticket{}, refuse(
			TicketEarly, "the ticket is not good yet: the clocks of this service and of who made it differ by over %s",
			ClockSkew,
		)
	case errors.Is(err, jwt.ErrTokenInvalidAudience):
		return Ticket{}, refuse(TicketUnfit, "the ticket's `aud` is not %q: it was made for something else", Audience)
	default:
		return Ticket{}, refuse(
			TicketUnfit,
			"the ticket is no JSON Web Token with `sub`, `jti`, `exp`, `aud` and `name`",
		)
	}
	out := Ticket{
		Player:   in.Subject,
		Name:     in.Name,
		Role:     in.Role,
		Session:  in.Session,
		Contract: in.Contract,
		Number:   in.ID,
		Key:      key.Name,
		Expires:  in.ExpiresAt.Time,
	}
	if err := out.check(); err != nil {
		return Ticket{}, refuse(TicketUnfit, "the ticket says too little or too much: %s", err)
	}
	if out.Expires.Sub(now) > MaxTicketLife+ClockSkew {
		return Ticket{}, refuse(TicketUnfit, "the ticket is good for more than %s", MaxTicketLife)
	}
	return out, nil
}

// keyOf returns the key that a ticket names, before anything costly is done with it. A ticket that names none is of the
// only key that there is.
func (c *Tickets) keyOf(text string) (Key, error) {
	keys := c.Keys()
	if len(keys) == 0 {
		return Key{}, refuse(TicketUnwanted, "this service takes no tickets: leave it out")
	}
	if len(text) > MaxTicket {
		return Key{}, refuse(TicketUnfit, "the ticket is longer than %d bytes", MaxTicket)
	}
	head, _, _ := strings.Cut(text, ".")
	raw, err := base64.RawURLEncoding.DecodeString(head)
	var header struct {
		Algorithm string `json:"alg"`
		Key       string `json:"kid"`
	}
	if err != nil || json.Unmarshal(raw, &header) != nil {
		return Key{}, refuse(TicketUnfit, "the ticket is no JSON Web Token (RFC 7519)")
	}
	for _, k := range keys {
		if k.Name != header.Key && (header.Key != "" || len(keys) > 1) {
			continue
		}
		if header.Algorithm != string(k.Algorithm) {
			return Key{}, refuse(TicketKey, "the ticket is not signed with %s, the algorithm of its key", k.Algorithm)
		}
		return k, nil
	}
	return Key{}, refuse(TicketKey, "the ticket names no key of this service in its `kid`")
}

// Admit checks what a ticket is for: a session of a contract, and the name and the role that are asked for, of which
// both may be empty. byTicket reports whether a role can only be had by a ticket that names it. It returns the role
// that the client gets, which is empty for the contract's first one. The error is a *TicketError.
func (t Ticket) Admit(
	session int64, contract, name, role string, byTicket func(role string) bool,
) (granted string, err error) {
	switch {
	case t.Session != 0 && t.Session != session:
		return "", refuse(TicketSession, "the ticket is for session %d, not for %d", t.Session, session)
	case t.Contract != "" && t.Contract != contract:
		return "", refuse(
			TicketSession,
			"the ticket is for sessions of %s, and this is one of %s",
			t.Contract,
			contract,
		)
	case name != "" && name != t.Name:
		return "", refuse(TicketName, "the ticket is for the name %q; ask for that or for none", t.Name)
	case t.Role != "" && role != "" && role != t.Role:
		return "", refuse(TicketRole, "the ticket is for the role %s; ask for that or for none", t.Role)
	case t.Role == "" && byTicket(role):
		return "", refuse(TicketRole, "the ticket names no role, and %q can only be had by one that does", role)
	case t.Role != "":
		return t.Role, nil
	}
	return role, nil
}
