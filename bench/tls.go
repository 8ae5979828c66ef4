package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"math/big"
	"net"
	"os"
	"sync"
	"time"
)

// tlsVariable says that all parts of a measurement speak TLS.
const tlsVariable = "BENCH_TLS"

// overTLS reports whether they do.
func overTLS() bool { return os.Getenv(tlsVariable) != "" }

// certificate makes a certificate for this process alone.
var certificate = sync.OnceValues(func() (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key}, nil
})

// listen listens on loopback, for TLS when it is measured.
func listen() (net.Listener, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil || !overTLS() {
		return l, err
	}
	return tls.NewListener(l, &tls.Config{
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return certificate() },
	}), nil
}

// trusting is how a sink dials: the certificate is made for the measurement alone.
var trusting = &tls.Config{InsecureSkipVerify: true}
