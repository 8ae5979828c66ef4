package auth_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kamerad.example/auth"
)

// keySet returns a file's text of keys.
func keySet(t *testing.T, keys ...auth.Key) []byte {
	var list []string
	for _, k := range keys {
		raw, err := k.Public()
		require.NoError(t, err)
		list = append(list, string(raw))
	}
	return []byte(`{"keys":[` + strings.Join(list, ",") + "]}")
}

// Keys are changed while the service runs; a file that is broken for a moment changes nothing, and is told once.
func TestKeysAreReadAnewWhenTheirFileChanges(t *testing.T) {
	ed, secret := newKeys(t)
	path := filepath.Join(t.TempDir(), "keys.json")
	_, err := auth.OpenKeys(path, func(error) {})
	require.ErrorContains(t, err, "no such file")
	require.NoError(t, os.WriteFile(path, keySet(t, ed), 0o600))
	var failures []error
	file, err := auth.OpenKeys(path, func(err error) { failures = append(failures, err) })
	require.NoError(t, err)
	require.Len(t, file.Keys(), 1)

	names := func() (out []string) {
		for _, k := range file.Keys() {
			out = append(out, k.Name)
		}
		return out
	}
	require.NoError(t, os.WriteFile(path, keySet(t, ed, secret), 0o600))
	require.Eventually(t, func() bool { return len(names()) == 2 }, 10*time.Second, 50*time.Millisecond)
	require.NoError(t, os.WriteFile(path, []byte(`{"keys":[`), 0o600))
	require.Eventually(t, func() bool { file.Keys(); return len(failures) > 0 }, 10*time.Second, 50*time.Millisecond)
	require.Equal(t, []string{"harbour", "quay"}, names())
	require.NoError(t, os.WriteFile(path, keySet(t, secret), 0o600))
	require.Eventually(t, func() bool { return len(names()) == 1 }, 10*time.Second, 50*time.Millisecond)
	require.Len(t, failures, 1)
}

func TestKeysThatAreNoneAreRefused(t *testing.T) {
	ed, secret := newKeys(t)
	public, err := ed.Public()
	require.NoError(t, err)
	hidden, err := secret.Private()
	require.NoError(t, err)
	for name, text := range map[string]string{
		"no JSON":         `{`,
		"no keys":         `{"keys":[]}`,
		"two of a name":   fmt.Sprintf(`{"keys":[%s,%[1]s]}`, public),
		"no name":         `{"keys":[` + strings.Replace(string(public), `"kid":"harbour",`, "", 1) + "]}",
		"no algorithm":    `{"keys":[` + strings.Replace(string(public), `"alg":"EdDSA",`, "", 1) + "]}",
		"other algorithm": `{"keys":[` + strings.Replace(string(public), "EdDSA", "HS256", 1) + "]}",
		"secret as EdDSA": `{"keys":[` + strings.Replace(string(hidden), "HS256", "EdDSA", 1) + "]}",
		"short secret":    `{"keys":[{"kty":"oct","kid":"a","alg":"HS256","k":"c2hvcnQ"}]}`,
		"a curve":         `{"keys":[{"kty":"EC","kid":"a","alg":"ES256","crv":"P-256","x":"AA","y":"AA"}]}`,
		"too many":        `{"keys":[` + strings.Repeat("{},", 40) + "{}]}",
	} {
		_, err := auth.ParseKeys([]byte(text))
		require.Error(t, err, name)
		require.NotContains(t, err.Error(), "c2hvcnQ", name)
	}
	_, err = auth.NewKey("a b", auth.EdDSA)
	require.Error(t, err)
	_, err = auth.NewKey("a", "RS256")
	require.ErrorContains(t, err, "EdDSA HS256")
}

func TestRightsIncludeThoseBefore(t *testing.T) {
	for i, r := range auth.Rights() {
		for j, other := range auth.Rights() {
			require.Equal(t, i >= j, r.Includes(other), "%s includes %s", r, other)
		}
		require.False(t, auth.Right("").Includes(r))
	}
	_, err := auth.ParseRight("admin")
	require.ErrorContains(t, err, "look play run")
	require.NotEqual(t, auth.NewToken(), auth.NewToken())
}
