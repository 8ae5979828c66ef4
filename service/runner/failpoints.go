package runner

import "kamerad.example/internal/failpoint"

// Failpoints are the places at which tests interfere.
var Failpoints struct {
	TickBegins failpoint.Point // a session's tick begins, on the runner's goroutine
	Describes  failpoint.Point // what a tick did is told to who watches, on the describer's goroutine
}
