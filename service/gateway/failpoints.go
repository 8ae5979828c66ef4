package gateway

import "kamerad.example/internal/failpoint"

// Failpoints are the places at which tests interfere.
var Failpoints struct {
	BatchTaken    failpoint.Point // a writer has taken what a tick has for it and has written none of it
	UplinkArrived failpoint.Point // a message of a client inside the service has arrived and is not delivered yet
	HelloQueued   failpoint.Point // a connection has its seat, and its hello is on its way
}

func init() {
	failpoint.Named("gateway.BatchTaken", &Failpoints.BatchTaken)
	failpoint.Named("gateway.HelloQueued", &Failpoints.HelloQueued)
}
