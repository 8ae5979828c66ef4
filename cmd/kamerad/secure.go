package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/urfave/cli/v3"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/cmd/kamerad/terminal"
)

// secureCommand is `kamerad secure`.
func secureCommand() *cli.Command {
	return &cli.Command{
		Name:      "secure",
		Usage:     "make all that a service needs which others can reach: keys, a certificate, a token and settings",
		ArgsUsage: "FOLDER",
		Description: "The certificate is signed by nobody else; put one of your own in its place, and the service " +
			"reads it. " +
			"The token may do everything. Nothing that is in FOLDER is written over.",
		Flags: append(
			databaseFlags(),
			&cli.StringSliceFlag{
				Name:  "host",
				Usage: "`NAME` or number that the service is reached by; several with commas",
			},
			&cli.StringFlag{Name: "listen", Usage: "`HOST:PORT` to listen on", Value: "0.0.0.0:7707"},
		),
		Action: secure,
	}
}

// The files of a folder that `secure` makes.
const (
	keysFile        = "tickets.json"
	backendFile     = "backend.jwk"
	certificateFile = "service.crt"
	certKeyFile     = "service.key"
	databaseFile    = "database"
	tokenFile       = "operator.token"
	settingsFile    = "kamerad.toml"
)

// secure makes a folder of keys, certificate, token and settings.
func secure(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Words(c, "FOLDER", 1, 1)
	if err != nil {
		return err
	}
	hosts := c.StringSlice("host")
	if len(hosts) == 0 {
		return fmt.Errorf("secure: say by which name it is reached, as in --host wreck.example")
	}
	_, port, err := net.SplitHostPort(c.String("listen"))
	if err != nil {
		return fmt.Errorf("secure: listen on %q: %w", c.String("listen"), err)
	}
	address, err := databaseOf(c)
	if err != nil {
		return err
	}
	folder, err := filepath.Abs(args[0])
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("secure: %w", err)
	}
	settings := filepath.Join(folder, settingsFile)
	if _, err := os.Stat(settings); err == nil {
		return fmt.Errorf(
			"secure: %s is there already; name another folder, or start with it: kamerad serve --config %[1]s",
			settings,
		)
	}
	token, err := firstToken(ctx, c, api.NewToken{Name: "operator", Right: string(auth.Run)})
	if err != nil {
		return fmt.Errorf("secure: %w", err)
	}
	if err := secureFiles(folder, hosts, address, token.Token, c.String("listen")); err != nil {
		return fmt.Errorf("secure: %w", err)
	}
	saySecured(c, args[0], "https://"+net.JoinHostPort(hosts[0], port))
	return nil
}

// saySecured says what to do with a folder that was made.
func saySecured(c *cli.Command, folder, service string) {
	in := func(name string) string { return filepath.Join(folder, name) }
	fmt.Fprintf(
		c.Root().Writer,
		`%s %s has all that the service needs

  Start it:   kamerad serve --config %s
  You:        kamerad login %s --ca %s <%s
  A player:   kamerad ticket --contract NAME --player diver-17 --name Ana --key %s --out ana.ticket
              kamerad join SESSION --service %[4]s --ca %[5]s --ticket ana.ticket

  %[7]s makes tickets: it belongs to the game's backend alone.
`,
		terminal.Good.Sprint(
			"✓",
		),
		folder,
		in(settingsFile),
		service,
		in(certificateFile),
		in(tokenFile),
		in(backendFile),
	)
}

// secureFiles writes the files of a folder, the settings last.
func secureFiles(folder string, hosts []string, database, token, listen string) error {
	in := func(name string) string { return filepath.Join(folder, name) }
	if err := addKey(in(keysFile), in(backendFile), "backend", auth.EdDSA); err != nil {
		return err
	}
	certificate, key, err := newCertificate(hosts)
	if err != nil {
		return err
	}
	settings, err := toml.Marshal(map[string]any{
		"listen":        listen,
		"on-stop":       "leave",
		"database-file": in(databaseFile),
		"tickets":       in(keysFile),
		"tokens":        true,
		"tls-cert":      in(certificateFile),
		"tls-key":       in(certKeyFile),
	})
	if err != nil {
		return err
	}
	for _, x := range []struct {
		name string
		text string
		mode os.FileMode
	}{
		{certificateFile, string(certificate), 0o644},
		{certKeyFile, string(key), 0o600},
		{databaseFile, database + "\n", 0o600},
		{tokenFile, token + "\n", 0o600},
		{settingsFile, string(settings), 0o644},
	} {
		if err := writeNew(in(x.name), x.text, x.mode); err != nil {
			return err
		}
	}
	return nil
}

// certificateLife is how long a certificate is good for that nobody else has signed.
const certificateLife = 398 * 24 * time.Hour

// newCertificate returns a certificate for some hosts that is signed with its own key, and the key, as PEM.
func newCertificate(hosts []string) (certificate, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, fmt.Errorf("make a certificate: %w", err)
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, nil, fmt.Errorf("make a certificate: %w", err)
	}
	template := &x509.Certificate{
		SerialNumber:          serial,
		Subject:               pkix.Name{CommonName: hosts[0]},
		NotBefore:             time.Now().Add(-time.Hour),
		NotAfter:              time.Now().Add(certificateLife),
		KeyUsage:              x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true,
		IsCA:                  true,
	}
	for _, host := range hosts {
		if ip := net.ParseIP(host); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else if strings.ContainsAny(host, "/: ") || host == "" {
			return nil, nil, fmt.Errorf("make a certificate: %q is neither a name nor a number of a machine", host)
		} else {
			template.DNSNames = append(template.DNSNames, host)
		}
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		return nil, nil, fmt.Errorf("make a certificate: %w", err)
	}
	half, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, nil, fmt.Errorf("make a certificate: %w", err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: half}), nil
}
