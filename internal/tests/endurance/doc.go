// Package endurance has the tests that take from minutes to hours: attacks, outages and stops, over and over, against
// the real binary. They run with KAMERAD_ENDURANCE=1 on a machine that does nothing else; `go test -run` picks one.
// Short versions of most stand beside the code.
package endurance
