// Package failpoint lets tests interfere at named places of the code: hold a goroutine there, have it fail, or kill the
// process. It knows nothing of what the places are about.
//
// A binary that is built with the tag failpoints is killed at a place that its environment names: KAMERAD_FAILPOINT is
// the name of the place and how often it has to be hit, such as "journal.Stored 3".
package failpoint

import "sync/atomic"

// Point is a place at which a test can interfere. Outside of tests it does nothing and costs the read of one word. Its
// zero value is ready.
type Point struct {
	do atomic.Pointer[func()]
}

// Hit calls what a test has set, if anything.
func (p *Point) Hit() {
	if do := p.do.Load(); do != nil {
		(*do)()
	}
}

// Set makes Hit call a function, which may block or panic, until the returned function is called.
func (p *Point) Set(do func()) (clear func()) {
	p.do.Store(&do)
	return func() { p.do.Store(nil) }
}
