package service

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// certificateFiles are a certificate and its key, which are read anew when they have changed. Connections that are open
// keep the one that they began with.
type certificateFiles struct {
	certificate, key string

	mu      sync.Mutex // guards the rest
	loaded  *tls.Certificate
	looked  time.Time
	changed [2]time.Time // when the files were changed that were read last, or could not be
}

// OpenCertificate reads a certificate, with those that lead to its root, and its key from files of PEM. What it returns
// gives the certificate as the files have it now: one that cannot be read leaves the old one, and is logged once.
func OpenCertificate(certificate, key string) (func() (*tls.Certificate, error), error) {
	f := &certificateFiles{certificate: certificate, key: key}
	if err := f.read(f.times()); err != nil {
		return nil, err
	}
	return f.get, nil
}

// times returns when the files were changed.
func (f *certificateFiles) times() (out [2]time.Time) {
	for i, name := range []string{f.certificate, f.key} {
		if info, err := os.Stat(name); err == nil {
			out[i] = info.ModTime()
		}
	}
	return out
}

// read reads the files.
func (f *certificateFiles) read(changed [2]time.Time) error {
	f.changed = changed
	c, err := tls.LoadX509KeyPair(f.certificate, f.key)
	if err != nil {
		return fmt.Errorf("read the certificate %s with its key %s: %w", f.certificate, f.key, err)
	}
	f.loaded = &c
	return nil
}

// get returns the certificate as it is now.
func (f *certificateFiles) get() (*tls.Certificate, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	if now.Sub(f.looked) < time.Second {
		return f.loaded, nil
	}
	f.looked = now
	if changed := f.times(); changed != f.changed {
		if err := f.read(changed); err != nil {
			slog.Error("the certificate has changed and cannot be read; the old one stays", "error", err)
		} else {
			slog.Info("the certificate was read anew", "until", f.loaded.Leaf.NotAfter)
		}
	}
	return f.loaded, nil
}
