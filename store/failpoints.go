package store

import "kamerad.example/internal/failpoint"

// Failpoints are the places at which tests interfere.
var Failpoints struct {
	Storing failpoint.Point // all of a transaction is with the database, and it is not committed
	Leased  failpoint.Point // a session has the lease of what a player keeps, and does not know it yet
}

func init() {
	failpoint.Named("store.Storing", &Failpoints.Storing)
	failpoint.Named("store.Leased", &Failpoints.Leased)
}
