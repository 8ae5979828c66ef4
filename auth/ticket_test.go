package auth_test

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/require"

	"kamerad.example/auth"
)

var now = time.Date(2031, 5, 1, 12, 0, 0, 0, time.UTC)

// newKeys returns a key of each algorithm.
func newKeys(t *testing.T) (ed, secret auth.Key) {
	ed, err := auth.NewKey("harbour", auth.EdDSA)
	require.NoError(t, err)
	secret, err = auth.NewKey("quay", auth.HS256)
	require.NoError(t, err)
	return ed, secret
}

// checker returns what checks tickets at a time, with what the service knows of some keys.
func checker(t *testing.T, at time.Time, keys ...auth.Key) *auth.Tickets {
	var public []auth.Key
	for _, k := range keys {
		raw, err := k.Public()
		require.NoError(t, err)
		read, err := auth.ParseKey(raw)
		require.NoError(t, err)
		public = append(public, read)
	}
	return &auth.Tickets{Keys: func() []auth.Key { return public }, Now: func() time.Time { return at }}
}

func sample() auth.Ticket {
	return auth.Ticket{
		Player:   "diver-17",
		Name:     "Ana",
		Role:     "player",
		Session:  3,
		Number:   "n1",
		Expires:  now.Add(5 * time.Minute),
		Contract: "",
	}
}

// part returns a part of a token as bytes.
func part(t *testing.T, token string, n int) []byte {
	raw, err := base64.RawURLEncoding.DecodeString(strings.Split(token, ".")[n])
	require.NoError(t, err)
	return raw
}

func TestTicketsAreReadAsTheyWereSigned(t *testing.T) {
	ed, secret := newKeys(t)
	for _, k := range []auth.Key{ed, secret} {
		text, err := auth.Sign(k, sample(), now)
		require.NoError(t, err)
		out, err := checker(t, now, ed, secret).Read(text)
		require.NoError(t, err)
		want := sample()
		want.Key = k.Name
		require.True(t, want.Expires.Equal(out.Expires))
		out.Expires = want.Expires
		require.Equal(t, want, out)
	}
}

// Each fault comes out of a ticket that is right but for it.
func TestFaultyTicketsAreRefused(t *testing.T) {
	ed, secret := newKeys(t)
	other, err := auth.NewKey("harbour", auth.EdDSA)
	require.NoError(t, err)
	signed := func(k auth.Key, change func(*auth.Ticket), at time.Time) string {
		x := sample()
		x.Expires = at.Add(5 * time.Minute)
		if change != nil {
			change(&x)
		}
		text, err := auth.Sign(k, x, at)
		require.NoError(t, err)
		return text
	}
	// raw signs claims and a header as they are.
	raw := func(header, claims string) string {
		h := base64.RawURLEncoding.EncodeToString([]byte(header))
		c := base64.RawURLEncoding.EncodeToString([]byte(claims))
		private, err := ed.Private()
		require.NoError(t, err)
		var jwk struct{ D, X string }
		require.NoError(t, json.Unmarshal(private, &jwk))
		seed, err := base64.RawURLEncoding.DecodeString(jwk.D)
		require.NoError(t, err)
		sum := ed25519.Sign(ed25519.NewKeyFromSeed(seed), []byte(h+"."+c))
		return h + "." + c + "." + base64.RawURLEncoding.EncodeToString(sum)
	}
	const header = `{"alg":"EdDSA","kid":"harbour"}`
	all := fmt.Sprintf(`"sub":"a","jti":"1","name":"Ana","session":3,"aud":"kamerad","exp":%d`, now.Unix()+60)
	good := signed(ed, nil, now)
	parts := strings.Split(good, ".")
	public, err := ed.Public()
	require.NoError(t, err)
	x, err := auth.ParseKey(public)
	require.NoError(t, err)
	require.NotNil(t, x)
	confused, err := jwt.NewWithClaims(jwt.SigningMethodHS256, jwt.MapClaims{"sub": "a"}).SignedString(public)
	require.NoError(t, err)

	cases := map[string]struct {
		text  string
		fault auth.Fault
	}{
		"no token": {"hello", auth.TicketUnfit},
		"empty":    {"", auth.TicketUnfit},
		"too long": {strings.Repeat("a", auth.MaxTicket+1), auth.TicketUnfit},
		"alg none": {raw(`{"alg":"none","kid":"harbour"}`, "{"+all+"}"), auth.TicketKey},
		"alg none, unsigned": {
			strings.Join(
				[]string{strings.Split(raw(`{"alg":"none","kid":"harbour"}`, "{"+all+"}"), ".")[0], parts[1], ""},
				".",
			),
			auth.TicketKey,
		},
		"public key as HMAC": {confused, auth.TicketKey},
		"the other's method": {raw(`{"alg":"EdDSA","kid":"quay"}`, "{"+all+"}"), auth.TicketKey},
		"no key named":       {raw(`{"alg":"EdDSA"}`, "{"+all+"}"), auth.TicketKey},
		"unknown key":        {raw(`{"alg":"EdDSA","kid":"reef"}`, "{"+all+"}"), auth.TicketKey},
		"wrong key":          {signed(other, nil, now), auth.TicketAltered},
		"altered claims": {
			parts[0] + "." + base64.RawURLEncoding.EncodeToString(
				[]byte(strings.Replace(string(part(t, good, 1)), "Ana", "Bob", 1)),
			) + "." + parts[2],
			auth.TicketAltered,
		},
		"cut off":              {good[:len(good)-4], auth.TicketAltered},
		"expired":              {signed(ed, nil, now.Add(-7*time.Minute)), auth.TicketExpired},
		"made by a fast clock": {signed(ed, nil, now.Add(3*time.Minute)), auth.TicketEarly},
		"for something else":   {raw(header, strings.Replace("{"+all+"}", "kamerad", "shop", 1)), auth.TicketUnfit},
		"no expiry": {
			raw(header, `{"sub":"a","jti":"1","name":"Ana","session":3,"aud":"kamerad"}`),
			auth.TicketUnfit,
		},
		"no number":            {raw(header, strings.Replace("{"+all+"}", `"jti":"1",`, "", 1)), auth.TicketUnfit},
		"no player":            {raw(header, strings.Replace("{"+all+"}", `"sub":"a",`, "", 1)), auth.TicketUnfit},
		"session and contract": {raw(header, `{"contract":"wreck",`+all+"}"), auth.TicketUnfit},
		"session as a text":    {raw(header, strings.Replace("{"+all+"}", "3", `"3"`, 1)), auth.TicketUnfit},
		"session out of range": {
			raw(header, strings.Replace("{"+all+"}", ":3,", ":9223372036854775808,", 1)),
			auth.TicketUnfit,
		},
		"good for years": {
			raw(header, strings.Replace("{"+all+"}", fmt.Sprint(now.Unix()+60), "4102444800", 1)),
			auth.TicketUnfit,
		},
		"a space in the player": {raw(header, strings.Replace("{"+all+"}", `"a"`, `"a b"`, 1)), auth.TicketUnfit},
	}
	for name, c := range cases {
		_, err := checker(t, now, ed, secret).Read(c.text)
		var refused *auth.TicketError
		require.ErrorAs(t, err, &refused, name)
		require.Equal(t, c.fault, refused.Fault, "%s: %s", name, refused.Detail)
		if len(c.text) > 20 {
			require.NotContains(t, refused.Detail, c.text[len(c.text)-20:], name)
		}
	}
	_, err = checker(t, now, ed).Read(raw(header, "{"+all+"}"))
	require.NoError(t, err, "what the cases are made of is right")
	_, err = checker(t, now, ed).Read(raw(`{"alg":"EdDSA"}`, "{"+all+"}"))
	require.NoError(t, err, "of the only key, it need not be named")
	_, err = checker(t, now).Read(good)
	require.Equal(t, auth.TicketUnwanted, err.(*auth.TicketError).Fault)
}

func TestClocksMayDifferByAMinute(t *testing.T) {
	ed, _ := newKeys(t)
	for _, c := range []struct {
		off time.Duration // of the service's clock
		err bool
	}{
		{-59 * time.Second, false},
		{-62 * time.Second, true},
		{5*time.Minute + 59*time.Second, false},
		{6*time.Minute + time.Second, true},
	} {
		text, err := auth.Sign(ed, sample(), now)
		require.NoError(t, err)
		_, err = checker(t, now.Add(c.off), ed).Read(text)
		require.Equal(t, c.err, err != nil, "%s: %v", c.off, err)
	}
}

func TestTicketsAdmitToWhatTheyAreFor(t *testing.T) {
	byTicket := func(role string) bool { return role == "referee" }
	anyRole := sample()
	anyRole.Role = ""
	anywhere := sample()
	anywhere.Session = 0
	anywhere.Contract = "wreck"
	cases := []struct {
		ticket       auth.Ticket
		session      int64
		name, role   string
		wantRole     string
		wantFault    auth.Fault
		otherPlayers bool
	}{
		{ticket: sample(), session: 3, wantRole: "player"},
		{ticket: sample(), session: 3, name: "Ana", role: "player", wantRole: "player"},
		{ticket: sample(), session: 4, wantFault: auth.TicketSession},
		{ticket: sample(), session: 3, name: "Bo", wantFault: auth.TicketName},
		{ticket: sample(), session: 3, role: "referee", wantFault: auth.TicketRole},
		{ticket: anyRole, session: 3, wantRole: ""},
		{ticket: anyRole, session: 3, role: "spectator", wantRole: "spectator"},
		{ticket: anyRole, session: 3, role: "referee", wantFault: auth.TicketRole},
		{ticket: anywhere, session: 9, wantRole: "player"},
	}
	for i, c := range cases {
		role, err := c.ticket.Admit(c.session, "wreck", c.name, c.role, byTicket)
		if c.wantFault != "" {
			require.Error(t, err, i)
			require.Equal(t, c.wantFault, err.(*auth.TicketError).Fault, i)
			continue
		}
		require.NoError(t, err, i)
		require.Equal(t, c.wantRole, role, i)
	}
	_, err := anywhere.Admit(9, "quay", "", "", byTicket)
	require.Equal(t, auth.TicketSession, err.(*auth.TicketError).Fault)
}

func TestOnlyThePrivateKeySigns(t *testing.T) {
	ed, secret := newKeys(t)
	raw, err := ed.Public()
	require.NoError(t, err)
	public, err := auth.ParseKey(raw)
	require.NoError(t, err)
	_, err = auth.Sign(public, sample(), now)
	require.ErrorContains(t, err, "only checks")
	raw, err = secret.Private()
	require.NoError(t, err)
	again, err := auth.ParseKey(raw)
	require.NoError(t, err)
	_, err = auth.Sign(again, sample(), now)
	require.NoError(t, err)
	for _, change := range []func(*auth.Ticket){
		func(x *auth.Ticket) { x.Expires = now },
		func(x *auth.Ticket) { x.Expires = now.Add(auth.MaxTicketLife + time.Second) },
		func(x *auth.Ticket) { x.Player = "" },
		func(x *auth.Ticket) { x.Name = "" },
		func(x *auth.Ticket) { x.Session = 0 },
	} {
		x := sample()
		change(&x)
		_, err := auth.Sign(ed, x, now)
		require.Error(t, err)
	}
}
