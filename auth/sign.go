package auth

import (
	"bytes"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Calls to a game's backend are signed as RFC 9421 (HTTP Message Signatures) says, over a digest of their body as
// RFC 9530 says.

// signedComponents are what a signature of a call covers.
var signedComponents = []string{"@method", "@authority", "@path", "content-type", "content-digest"}

// signatureName is the name of the signature among others that a message may have.
const signatureName = "kamerad"

// signatureAlgorithms are the algorithms of keys by their names in RFC 9421.
var signatureAlgorithms = map[Algorithm]string{EdDSA: "ed25519", HS256: "hmac-sha256"}

// contentDigest returns the digest of a body as a field.
func contentDigest(body []byte) string {
	sum := sha256.Sum256(body)
	return "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
}

// signatureBase returns what is signed of a message (RFC 9421, section 2.5).
func signatureBase(r *http.Request, components []string, params string) (string, error) {
	var out strings.Builder
	for _, name := range components {
		value := ""
		switch name {
		case "@method":
			value = r.Method
		case "@path":
			value = r.URL.EscapedPath()
			if value == "" {
				value = "/"
			}
		case "@authority":
			value = strings.ToLower(r.Host)
			if value == "" {
				value = strings.ToLower(r.URL.Host)
			}
		default:
			values := r.Header.Values(name)
			if len(values) == 0 || strings.HasPrefix(name, "@") {
				return "", fmt.Errorf("the message has no %q, which is to be signed", name)
			}
			for i := range values {
				values[i] = strings.TrimSpace(values[i])
			}
			value = strings.Join(values, ", ")
		}
		fmt.Fprintf(&out, "%q: %s\n", name, value)
	}
	fmt.Fprintf(&out, "%q: %s", "@signature-params", params)
	return out.String(), nil
}

// signatureParams returns what a signature says of itself.
func signatureParams(components []string, k Key, now time.Time) string {
	var quoted []string
	for _, name := range components {
		quoted = append(quoted, strconv.Quote(name))
	}
	return fmt.Sprintf(
		"(%s);created=%d;keyid=%q;alg=%q", strings.Join(quoted, " "), now.Unix(), k.Name,
		signatureAlgorithms[k.Algorithm],
	)
}

// sign signs a text.
func (k Key) sign(text string) ([]byte, error) {
	switch private := k.private.(type) {
	case ed25519.PrivateKey:
		return ed25519.Sign(private, []byte(text)), nil
	case []byte:
		sum := hmac.New(sha256.New, private)
		sum.Write([]byte(text))
		return sum.Sum(nil), nil
	}
	return nil, fmt.Errorf("sign a call: the key %s only checks; the private one signs", k.Name)
}

// CanSign reports whether the key is a private one.
func (k Key) CanSign() bool { return k.private != nil }

// verify reports whether a key has signed a text.
func (k Key) verify(text string, signature []byte) bool {
	switch public := k.public.(type) {
	case ed25519.PublicKey:
		return ed25519.Verify(public, []byte(text), signature)
	case []byte:
		sum := hmac.New(sha256.New, public)
		sum.Write([]byte(text))
		return hmac.Equal(sum.Sum(nil), signature)
	}
	return false
}

// SignRequest signs a request with its body: it sets Content-Digest, Signature-Input and Signature. The headers that
// are signed, Content-Type among them, have to be set.
func SignRequest(r *http.Request, body []byte, k Key, now time.Time) error {
	r.Header.Set("Content-Digest", contentDigest(body))
	params := signatureParams(signedComponents, k, now)
	base, err := signatureBase(r, signedComponents, params)
	if err != nil {
		return fmt.Errorf("sign a call: %w", err)
	}
	signature, err := k.sign(base)
	if err != nil {
		return err
	}
	r.Header.Set("Signature-Input", signatureName+"="+params)
	r.Header.Set("Signature", signatureName+"=:"+base64.StdEncoding.EncodeToString(signature)+":")
	return nil
}

// signatureInput is the form of what SignRequest writes.
var signatureInput = regexp.MustCompile(
	`^` + signatureName + `=(\(((?:"[@a-z-]+" ?)+)\);created=(\d{1,12});keyid="([^"]{1,64})";alg="([a-z0-9-]+)")$`,
)

// maxSignedBody is how many bytes a signed body has at most.
const maxSignedBody = 1 << 20

// VerifyRequest reads the body of a request that SignRequest has signed, for a backend in Go. The error says that none
// of the keys has signed it, that it was changed, that its signature covers too little, or that it was signed more than
// five minutes ago.
func VerifyRequest(r *http.Request, keys []Key, now time.Time) (body []byte, err error) {
	body, err = io.ReadAll(io.LimitReader(r.Body, maxSignedBody+1))
	if err != nil || len(body) > maxSignedBody {
		return nil, errors.New("check a signed call: its body cannot be read")
	}
	if !bytes.Equal([]byte(r.Header.Get("Content-Digest")), []byte(contentDigest(body))) {
		return nil, errors.New("check a signed call: its body is not what its digest says")
	}
	m := signatureInput.FindStringSubmatch(r.Header.Get("Signature-Input"))
	if m == nil {
		return nil, errors.New("check a signed call: there is no signature of it")
	}
	created, err := strconv.ParseInt(m[3], 10, 64)
	if age := now.Sub(time.Unix(created, 0)); err != nil || age > 5*time.Minute || age < -ClockSkew {
		return nil, errors.New("check a signed call: it was not signed just now")
	}
	components := strings.Fields(strings.ReplaceAll(m[2], `"`, ""))
	if strings.Join(components, " ") != strings.Join(signedComponents, " ") {
		return nil, errors.New("check a signed call: its signature does not cover what it has to")
	}
	text, found := strings.CutPrefix(r.Header.Get("Signature"), signatureName+"=:")
	signature, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(text, ":"))
	if err != nil || !found {
		return nil, errors.New("check a signed call: its signature is none")
	}
	base, err := signatureBase(r, components, m[1])
	if err != nil {
		return nil, fmt.Errorf("check a signed call: %w", err)
	}
	for _, k := range keys {
		if k.Name == m[4] && signatureAlgorithms[k.Algorithm] == m[5] && k.verify(base, signature) {
			return body, nil
		}
	}
	return nil, errors.New("check a signed call: none of the keys has signed it")
}
