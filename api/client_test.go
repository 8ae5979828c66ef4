package api

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestProblemsSayWhatExists(t *testing.T) {
	assert.Equal(
		t, "there is no session 9; there is session 1 (a), session 2 (b)",
		(&Problem{Detail: "there is no session 9", Known: []string{"session 1 (a)", "session 2 (b)"}}).Error(),
	)
	_, err := Client{Service: "http://127.0.0.1:1"}.Sessions(t.Context())
	assert.ErrorContains(t, err, "is it running?")
	_, err = Client{Service: "::"}.Sessions(t.Context())
	assert.ErrorContains(t, err, "read the service's address")
}
