package journal

import "kamerad.example/internal/failpoint"

// Failpoints are the places at which tests interfere.
var Failpoints struct {
	Stored failpoint.Point // a transaction is committed, and nobody knows of it yet
}

func init() { failpoint.Named("journal.Stored", &Failpoints.Stored) }
