package trials

import "kamerad.example/internal/failpoint"

// Failpoints are the places at which tests interfere.
var Failpoints struct {
	TrialChecked failpoint.Point // a trial that is being started was found to be wanted and is not stored yet
}
