package session

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Methods that change nothing that comes of a session: they read it, or say who is told.
var readingMethods = strings.Fields(`
	Checkpoint ClientState Clients Compare Contract Differences Do Idle IsLost LastFrame Layout Memory Named Nth Now
	PropertyType PublicSettings Queued ReadRequest ReadSteering Reader Received RecordCalls Seen ServerState SetWatched
	State Strikes UseMemory Waiting
	EntityNumber FindEntity MayHave TraceCauses World
	About CheckJoin Identity IsLogic Keeps KeptFence LastClient WorldKept
`)

// A session is a function of its calls: each exported method is recorded, or changes nothing.
func TestEveryMethodIsRecordedOrChangesNothing(t *testing.T) {
	recorded := append(slices.Collect(maps.Values(callMethods)), "JoinPlayer") // by the call of Join
	typ := reflect.TypeFor[*Session]()
	var all []string
	for i := range typ.NumMethod() {
		all = append(all, typ.Method(i).Name)
	}
	assert.ElementsMatch(t, all, append(recorded, readingMethods...),
		"a method that is new has to be recorded as a Call, or stand among those that change nothing")
}
