package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kamerad.example/auth"
	"kamerad.example/service"
	"kamerad.example/service/door"
	"kamerad.example/service/httpapi"
	"kamerad.example/service/traces"
)

// isLoopback reports whether an address to listen on can be reached from this machine alone.
func isLoopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	return err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// checkListen returns why a service with these settings may not listen where it is to.
//
// Whoever others can reach has to know who they are, and nobody on the way may read along. One that stands behind a
// proxy is reached by others, wherever it listens.
func checkListen(c *cli.Command, hasDatabase bool) error {
	address := c.String("listen")
	if _, _, err := net.SplitHostPort(address); err != nil {
		return fmt.Errorf("listen on %q: it is like 127.0.0.1:7707: %w", address, err)
	}
	if _, err := outsideOf(c); err != nil {
		return err
	}
	if (c.String("tls-cert") == "") != (c.String("tls-key") == "") {
		return fmt.Errorf("serve: --tls-cert FILE and --tls-key FILE go together")
	}
	if _, _, err := backendOf(c); err != nil {
		return err
	}
	if !hasDatabase && (c.String("tickets")+c.String("backend") != "" || c.Bool("tokens")) {
		return fmt.Errorf("serve: without a database there are no tickets, no tokens and no backend; leave --one out")
	}
	proxied := len(c.StringSlice("behind-proxy")) > 0
	if isLoopback(address) && !proxied {
		return nil
	}
	if !hasDatabase {
		return fmt.Errorf("listen on %q: without a database a service is on loopback only; use 127.0.0.1:PORT", address)
	}
	var missing []string
	if c.String("tickets") == "" {
		missing = append(missing, "no tickets for players (--tickets)")
	}
	if !c.Bool("tokens") {
		missing = append(missing, "no tokens for operators (--tokens)")
	}
	if c.String("tls-cert") == "" && !proxied {
		missing = append(missing, "no TLS (--tls-cert and --tls-key, or --behind-proxy)")
	}
	if len(missing) == 0 {
		return nil
	}
	return fmt.Errorf(
		"listen on %s: others can reach this service, and it has %s.\nOne command makes what is missing, and says "+
			"how to "+
			"start with it:\n  kamerad secure door --host NAME",
		address,
		strings.Join(missing, ", "),
	)
}

// outsideOf returns from where a service may be called.
func outsideOf(c *cli.Command) (out httpapi.Outside, err error) {
	for _, text := range c.StringSlice("behind-proxy") {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			one, failed := netip.ParseAddr(text)
			if failed != nil {
				return out, fmt.Errorf("read --behind-proxy: a network is like 10.1.0.0/16, not %q", text)
			}
			network = netip.PrefixFrom(one, one.BitLen())
		}
		out.Proxies = append(out.Proxies, network)
	}
	for _, text := range c.StringSlice("allow-origin") {
		u, err := url.Parse(text)
		if err != nil || u.Scheme == "" || u.Host == "" || u.Scheme+"://"+u.Host != text {
			return out, fmt.Errorf("read --allow-origin: an origin is like https://play.wreck.example, not %q", text)
		}
		out.Origins = append(out.Origins, text)
	}
	out.Anywhere = !isLoopback(c.String("listen")) || len(out.Proxies) > 0
	out.ProxiesAlone = len(out.Proxies) > 0 && c.String("tls-cert") == ""
	return out, nil
}

// secureOptions adds to the options of a service who may use it, and from where.
func secureOptions(ctx context.Context, c *cli.Command, o *service.Options) (err error) {
	o.Outside, err = outsideOf(c)
	if err != nil {
		return err
	}
	o.Limits = door.Limits{
		Connections: c.Int("address-connections"),
		Connects:    c.Float("address-connects"),
		Joins:       c.Float("address-joins"),
		Failures:    c.Float("address-failures"),
		Messages:    c.Float("address-messages"),
		Bytes:       c.Float("address-bytes"),
	}
	o.Tokens = c.Bool("tokens")
	if file := c.String("tickets"); file != "" {
		keys, err := auth.OpenKeys(file, func(err error) {
			slog.Error("the keys of tickets have changed and cannot be read; the old ones stay", "error", err)
		})
		if err != nil {
			return err
		}
		o.Tickets = &auth.Tickets{Keys: keys.Keys, Now: time.Now}
	}
	o.Backend, o.BackendKey, err = backendOf(c)
	if err != nil {
		return err
	}
	if endpoint := c.String("traces"); endpoint != "" {
		o.Traces, err = traces.New(ctx, endpoint, c.Float("traces-share"))
		if err != nil {
			return err
		}
	}
	if file := c.String("tls-cert"); file != "" {
		o.Certificate, err = service.OpenCertificate(file, c.String("tls-key"))
	}
	return err
}
