package registry

import "kamerad.example/internal/failpoint"

// Failpoints are the places at which tests interfere.
var Failpoints struct {
	SessionStored failpoint.Point // a session that is being opened has its row and no goroutine yet
	Recovered     failpoint.Point // a session was recovered, and does not run yet
}

func init() { failpoint.Named("registry.Recovered", &Failpoints.Recovered) }
