package httpapi

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5/middleware"

	"kamerad.example/api"
	"kamerad.example/service/door"
	"kamerad.example/service/problems"
)

// Outside says from where the service may be called.
type Outside struct {
	// Anywhere says that the service is called by other names than those of this machine: it listens beyond loopback,
	// or stands behind a proxy.
	Anywhere bool
	// Proxies are the networks of proxies that say for whom they call, by the headers Forwarded (RFC 7239) or
	// X-Forwarded-For and X-Forwarded-Proto.
	Proxies []netip.Prefix
	// ProxiesAlone says that nobody else may call from beyond this machine: TLS ends at the proxies.
	ProxiesAlone bool
	// Origins are those of pages elsewhere, such as https://play.wreck.example, that may have players join.
	Origins []string
	// Addresses count what comes from where; nil counts nothing.
	Addresses *door.Addresses
}

// Trusts reports whether an address is one of a proxy.
func (o *Outside) Trusts(a netip.Addr) bool {
	return slices.ContainsFunc(o.Proxies, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// maxRequestID is how long the number may be that a proxy gives a call.
const maxRequestID = 64

// requestID gives each call a number for the log, unless a proxy has given it one.
func requestID(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := r.Header.Get(middleware.RequestIDHeader)
		if id == "" {
			id = rand.Text()[:12]
		}
		w.Header().Set(middleware.RequestIDHeader, id)
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), middleware.RequestIDKey, id)))
	})
}

// caller is where a call comes from.
type caller struct {
	address  *door.Address // nil for one that is not counted
	isSecure bool          // it came by TLS, at least to the proxy
}

// callerKey is where a request's context has the caller.
type callerKey struct{}

// callerOf returns where a call comes from.
func callerOf(r *http.Request) caller {
	c, _ := r.Context().Value(callerKey{}).(caller)
	return c
}

// fromOutside turns away what a web page from elsewhere could send through a browser, finds out from where a call
// comes, and says what a browser may do with the answer.
//
// A service on loopback alone answers only when it is asked for by a name of this machine: a page elsewhere whose name
// leads here could use it as its own. Beyond that, what keeps such a page out is that it has no token and no cookie.
func (o *Outside) fromOutside(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !o.Anywhere && !loopback(r.Host) {
			problems.Answer(
				w, http.StatusForbidden,
				fmt.Sprintf(
					"this service is asked for as %.80q; it answers only on loopback, such as 127.0.0.1", r.Host,
				),
			)
			return
		}
		if detail := o.refuseOrigin(r); detail != "" {
			problems.Answer(w, http.StatusForbidden, detail)
			return
		}
		peer, _ := netip.ParseAddrPort(r.RemoteAddr)
		address := peer.Addr()
		if o.ProxiesAlone && !o.Trusts(address) && !address.Unmap().IsLoopback() {
			problems.Answer(w, http.StatusForbidden, "this service is called by its proxy alone: TLS ends there")
			return
		}
		isSecure := r.TLS != nil
		if !o.Trusts(address) || len(r.Header.Get(middleware.RequestIDHeader)) > maxRequestID {
			r.Header.Del(middleware.RequestIDHeader) // it goes into the log
		}
		if o.Trusts(address) {
			address, isSecure = o.forwarded(r, address)
			r.RemoteAddr = netip.AddrPortFrom(address, peer.Port()).String()
		}
		from := caller{address: o.Addresses.Of(address), isSecure: isSecure}
		setHeaders(w, r, isSecure)
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, from)))
	})
}

// plainHost is a host, perhaps with a port, that means nothing else in a header.
var plainHost = regexp.MustCompile(`^[A-Za-z0-9.:\[\]-]{1,300}$`)

// setHeaders says what a browser may do with an answer.
func setHeaders(w http.ResponseWriter, r *http.Request, isSecure bool) {
	socket := "ws://" + r.Host
	if isSecure {
		socket = "wss://" + r.Host
	}
	if !plainHost.MatchString(r.Host) { // it would be read as more than a host
		socket = ""
	}
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Referrer-Policy", "no-referrer")
	w.Header().Set(
		"Content-Security-Policy",
		"default-src 'self'; style-src 'self' 'unsafe-inline'; connect-src 'self' "+socket+
			"; frame-ancestors 'none'",
	)
}

// refuseOrigin returns why a page may not make a call; empty when it may, or no page does.
func (o *Outside) refuseOrigin(r *http.Request) string {
	joins := strings.HasPrefix(r.URL.Path, "/api/sessions/") && strings.HasSuffix(r.URL.Path, "/join")
	origin := r.Header.Get("Origin")
	if joins && slices.Contains(o.Origins, origin) {
		return ""
	}
	if origin != "" {
		u, err := url.Parse(origin)
		if err != nil || !strings.EqualFold(u.Host, r.Host) {
			return fmt.Sprintf("a page of %.80q may not use this service", origin)
		}
	}
	// A browser says so where it sends no origin, as for a picture.
	site := r.Header.Get("Sec-Fetch-Site")
	if strings.HasPrefix(r.URL.Path, "/api") && site != "" && site != "same-origin" && site != "none" {
		return "a page from elsewhere may not use this service"
	}
	return ""
}

// forwarded returns for which address a proxy calls, and whether that has come to it by TLS. Of a row of proxies, the
// last one that is not trusted counts: what stands before it, anybody may have written.
func (o *Outside) forwarded(r *http.Request, peer netip.Addr) (address netip.Addr, isSecure bool) {
	address = peer
	addresses, scheme := forwardedFor(r.Header)
	for _, text := range slices.Backward(addresses) {
		a, err := readAddress(text)
		if err != nil {
			break
		}
		address = a
		if !o.Trusts(a) {
			break
		}
	}
	return address, strings.EqualFold(scheme, "https")
}

// forwardedFor returns the addresses that proxies have noted, the nearest last, and the scheme that the last one was
// called by.
func forwardedFor(h http.Header) (addresses []string, scheme string) {
	if list := h.Values("Forwarded"); len(list) > 0 {
		for _, element := range strings.Split(strings.Join(list, ","), ",") {
			for _, pair := range strings.Split(element, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				value = strings.Trim(value, `"`)
				switch strings.ToLower(name) {
				case "for":
					addresses = append(addresses, value)
				case "proto":
					scheme = value
				}
			}
		}
		return addresses, scheme
	}
	for _, one := range strings.Split(strings.Join(h.Values("X-Forwarded-For"), ","), ",") {
		one = strings.TrimSpace(one)
		if one != "" {
			addresses = append(addresses, one)
		}
	}
	return addresses, h.Get("X-Forwarded-Proto")
}

// readAddress reads an address with or without a port.
func readAddress(text string) (netip.Addr, error) {
	if a, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return a, nil
	}
	p, err := netip.ParseAddrPort(text)
	return p.Addr(), err
}

// loopback reports whether the host of an address is this machine by name or number, whatever its port.
func loopback(hostport string) bool {
	host := hostport
	if h, _, err := net.SplitHostPort(hostport); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// socket lets a handler take a connection over, and counts it for its address for as long as it does. joins says that
// a client joins by it.
func (a *API) socket(joins bool, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		from := callerOf(r).address
		if joins && !from.Join() {
			tooMany(w, "too many clients have joined from your address just now; try again in a moment")
			return
		}
		release, ok := from.Hold()
		if !ok {
			tooMany(w, "too many connections of your address are open")
			return
		}
		defer release()
		next(w, r)
	}
}

// tooMany refuses a call of an address that is over a limit, and closes its connection.
func tooMany(w http.ResponseWriter, detail string) {
	w.Header().Set("Connection", "close")
	problems.Send(w, &api.Problem{Status: http.StatusTooManyRequests, Code: api.CodeTooMany, Detail: detail})
}
