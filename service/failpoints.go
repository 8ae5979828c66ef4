package service

import "kamerad.example/internal/failpoint"

// The places at which tests interfere.
var failpoints struct {
	batchTaken    failpoint.Point // a writer has taken what a tick has for it and has written none of it
	tickBegins    failpoint.Point // a session's tick begins, on the session's goroutine
	uplinkArrived failpoint.Point // a message of a client inside the service has arrived and is not delivered yet
	sessionStored failpoint.Point // a session that is being opened has its row and no goroutine yet
	trialChecked  failpoint.Point // a trial that is being started was found to be wanted and is not stored yet
	helloQueued   failpoint.Point // a connection has its seat, and its hello is on its way
}
