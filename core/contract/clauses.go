package contract

import "fmt"

// Clauses are the clauses of a property that are told with it as they are. Those that have more to say, such as SetBy,
// have types of their own. A clause that is added here is told by outlines, by `contract show` and by comparisons.
type Clauses struct {
	Computed bool `json:"computed,omitempty"` // its value follows from others of its entity: nothing writes it
	Clamped  bool `json:"clamped,omitempty"`  // a value out of its range becomes the nearest in it, and is no fault
	Keep     bool `json:"keep,omitempty"`     // it is there again in the player's next session
	Once     bool `json:"once,omitempty"`     // it never changes, and is sent with the entity alone
	Loose    bool `json:"loose,omitempty"`    // a value may be lost on the way when a newer one follows
	AtMost   int  `json:"at_most,omitempty"`  // times a second that it is sent; 0 for each change
}

// Words returns the clauses as a contract writes them, in a fixed order.
func (c Clauses) Words() (out []string) {
	for _, clause := range []struct {
		there bool
		words string
	}{
		{c.Computed, "computed"},
		{c.Clamped, "clamped"},
		{c.Once, "once"},
		{c.Keep, "keep"},
		{c.Loose, "loose"},
		{c.AtMost > 0, fmt.Sprintf("at most %d per second", c.AtMost)},
	} {
		if clause.there {
			out = append(out, clause.words)
		}
	}
	return out
}
