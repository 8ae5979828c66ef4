package terminal

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"

	"kamerad.example/api"
)

// Login is what is kept of a service that somebody has logged in to.
type Login struct {
	Token        string `json:"token"`
	Certificates string `json:"certificates,omitempty"` // that are believed beside the system's, as PEM
}

// loginFile is where logins are kept, by the addresses of services.
func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find where logins are kept: %w; KAMERAD_TOKEN can hold a token", err)
	}
	return filepath.Join(dir, "kamerad", "logins.json"), nil
}

// readLogins returns all logins. A file that others can read is refused: what is in it is no secret any more.
func readLogins() (map[string]Login, error) {
	path, err := loginFile()
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]Login{}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the logins: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf(
			"read the logins: others can read %s; take that away with `chmod 600 %[1]s`, and have the tokens in it "+
				"revoked",
			path,
		)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("read the logins: %w", err)
	}
	out := map[string]Login{}
	if err := json.Unmarshal(raw, &out); err != nil {
		return nil, fmt.Errorf("read the logins: %s is not what `kamerad login` writes: %w", path, err)
	}
	return out, nil
}

// SaveLogin keeps a login of a service in a file that its user alone can read; nil forgets it.
func SaveLogin(service string, l *Login) error {
	all, err := readLogins()
	if err != nil {
		return err
	}
	if l == nil {
		delete(all, serviceKey(service))
	} else {
		all[serviceKey(service)] = *l
	}
	path, err := loginFile()
	if err != nil {
		return err
	}
	raw, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("keep the login: %w", err)
	}
	temporary, err := os.CreateTemp(filepath.Dir(path), "logins") // with the mode 0600
	if err != nil {
		return fmt.Errorf("keep the login: %w", err)
	}
	_, err = temporary.Write(append(raw, '\n'))
	err = errors.Join(err, temporary.Close())
	if err == nil {
		err = os.Rename(temporary.Name(), path)
	}
	if err != nil {
		_ = os.Remove(temporary.Name())
		return fmt.Errorf("keep the login: %w", err)
	}
	return nil
}

// serviceKey is by what a login is found: an address with or without a slash behind it is the same.
func serviceKey(service string) string { return strings.TrimSuffix(service, "/") }

// loginOf returns the login of a service; the zero Login when there is none.
func loginOf(service string) Login {
	all, err := readLogins()
	if err != nil {
		slog.Warn(err.Error())
	}
	return all[serviceKey(service)]
}

// Service returns a client of the service that a command is about, with the token of its user: that of KAMERAD_TOKEN,
// else of `kamerad login`.
func Service(c *cli.Command) api.Client {
	out := api.Client{Service: c.String("service"), Token: os.Getenv("KAMERAD_TOKEN")}
	login := loginOf(out.Service)
	if out.Token == "" {
		out.Token = login.Token
	}
	believed, err := Believe(os.Getenv("KAMERAD_CA"), login.Certificates)
	if err != nil {
		slog.Warn(err.Error())
	}
	out.TLS = believed
	return out
}

// believed are the sets of certificates that were read, so that the same ones give the same set.
var believed sync.Map // of *tls.Config by what they were read from

// Believe returns which certificates of services are believed beside those of the system: those of a file, and those of
// a text, both of PEM. Nil are those of the system alone.
func Believe(file, text string) (*tls.Config, error) {
	if file == "" && text == "" {
		return nil, nil
	}
	if file != "" {
		raw, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("read the certificates to believe: %w", err)
		}
		text += "\n" + string(raw)
	}
	if known, is := believed.Load(text); is {
		return known.(*tls.Config), nil
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM([]byte(text)) {
		return nil, errors.New("read the certificates to believe: there is none, as in -----BEGIN CERTIFICATE-----")
	}
	made, _ := believed.LoadOrStore(text, &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12})
	return made.(*tls.Config), nil
}
