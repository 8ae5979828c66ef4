package auth

import (
	"bytes"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/base64"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The example of RFC 9421, appendix B.2.6.
func TestSignaturesAreThoseOfTheStandard(t *testing.T) {
	raw, err := base64.StdEncoding.DecodeString("MC4CAQAwBQYDK2VwBCIEIJ+DYvh6SEqVTm50DFtMDoQikTmiCqirVv9mWG9qfSnF")
	require.NoError(t, err)
	private, err := x509.ParsePKCS8PrivateKey(raw)
	require.NoError(t, err)
	k := Key{Name: "test-key-ed25519", Algorithm: EdDSA, private: private.(ed25519.PrivateKey)}
	r, err := http.NewRequest(http.MethodPost, "https://example.com/foo?param=Value&Pet=dog", nil)
	require.NoError(t, err)
	r.Header.Set("Date", "Tue, 20 Apr 2021 02:07:55 GMT")
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Content-Length", "18")
	components := []string{"date", "@method", "@path", "@authority", "content-type", "content-length"}
	base, err := signatureBase(
		r, components, `("date" "@method" "@path" "@authority" "content-type" "content-length")`+
			`;created=1618884473;keyid="test-key-ed25519"`,
	)
	require.NoError(t, err)
	signature, err := k.sign(base)
	require.NoError(t, err)
	assert.Equal(
		t, "wqcAqbmYJ2ji2glfAMaRy4gruYYnx2nEFN2HN6jrnDnQCK1u02Gb04v9EDgwUPiu4A0w6vuQv5lIp5WPpBKRCw==",
		base64.StdEncoding.EncodeToString(signature),
	)
}

func TestSignedCallsAreChecked(t *testing.T) {
	now := time.Now()
	for _, algorithm := range Algorithms() {
		k, err := NewKey("door", algorithm)
		require.NoError(t, err)
		other, err := NewKey("door", algorithm)
		require.NoError(t, err)
		call := func(change func(*http.Request), keys ...Key) error {
			body := []byte(`{"number":1}`)
			r, err := http.NewRequest(http.MethodPost, "https://backend.example/kamerad", bytes.NewReader(body))
			require.NoError(t, err)
			r.Header.Set("Content-Type", "application/json")
			require.NoError(t, SignRequest(r, body, k, now))
			if change != nil {
				change(r)
			}
			got, err := VerifyRequest(r, keys, now)
			if err == nil {
				require.Equal(t, body, got)
			}
			return err
		}
		set := func(name, value string) func(*http.Request) {
			return func(r *http.Request) { r.Header.Set(name, value) }
		}
		require.NoError(t, call(nil, other, k))
		for what, change := range map[string]func(*http.Request){
			"another body":   func(r *http.Request) { r.Body = http.NoBody },
			"another type":   set("Content-Type", "text/plain"),
			"another path":   func(r *http.Request) { r.URL.Path = "/elsewhere" },
			"another host":   func(r *http.Request) { r.Host = "elsewhere.example" },
			"another method": func(r *http.Request) { r.Method = http.MethodPut },
			"no signature":   func(r *http.Request) { r.Header.Del("Signature") },
			"a covered bit":  set("Signature-Input", `kamerad=("@method");created=1;keyid="door";alg="ed25519"`),
			"another key":    func(r *http.Request) { require.NoError(t, SignRequest(r, []byte(`{"number":1}`), other, now)) },
			"long ago": func(r *http.Request) {
				require.NoError(t, SignRequest(r, []byte(`{"number":1}`), k, now.Add(-6*time.Minute)))
			},
			"in the future": func(r *http.Request) {
				require.NoError(t, SignRequest(r, []byte(`{"number":1}`), k, now.Add(2*time.Minute)))
			},
			"broken encoding": set("Signature", "kamerad=:!!:"),
		} {
			assert.Error(t, call(change, k), "%s, %s", what, algorithm)
		}
		raw, err := k.Public()
		require.NoError(t, err)
		public, err := ParseKey(raw)
		require.NoError(t, err)
		assert.NoError(t, call(nil, public))
	}
}
