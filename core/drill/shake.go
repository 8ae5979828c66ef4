package drill

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"kamerad.example/core/link"
)

// Shaking is what is wrong with the links of a run, beside what the drill says.
type Shaking struct {
	Seed   uint64  `json:"seed"` // of the dice of all links
	Faults []Fault `json:"faults"`
}

// maxFaults is how many faults a Shaking has at most.
const maxFaults = 1000

// Check says what is wrong with a Shaking that came from elsewhere.
func (s *Shaking) Check() error {
	if len(s.Faults) > maxFaults {
		return fmt.Errorf("links are shaken by at most %d faults, not %d", maxFaults, len(s.Faults))
	}
	for _, f := range s.Faults {
		if _, err := ParseFault(f.String()); err != nil {
			return err
		}
	}
	return nil
}

// FaultKind says what is wrong with a link.
type FaultKind string

// What can be wrong with a link.
const (
	FaultDelay  FaultKind = "delay"
	FaultJitter FaultKind = "jitter"
	FaultLoss   FaultKind = "loss"
	FaultStall  FaultKind = "stall" // for a while nothing passes
)

// Fault is one thing that is wrong with one client's link.
type Fault struct {
	Client string        `json:"client"`
	What   FaultKind     `json:"what"`
	Time   time.Duration `json:"time,omitempty"`   // of a delay or jitter; of a stall, when it begins
	Length time.Duration `json:"length,omitempty"` // of a stall
	Share  float64       `json:"share,omitempty"`  // of a loss
}

// String returns a fault as ParseFault reads it.
func (f Fault) String() string {
	switch f.What {
	case FaultLoss:
		return fmt.Sprintf("%s loss %s%%", f.Client, strconv.FormatFloat(math.Round(f.Share*1e6)/1e4, 'f', -1, 64))
	case FaultStall:
		return fmt.Sprintf("%s stall %s+%s", f.Client, f.Time, f.Length)
	}
	return fmt.Sprintf("%s %s %s", f.Client, f.What, f.Time)
}

// ParseFault reads what String returns. The error says what is wrong and what would be right.
func ParseFault(text string) (f Fault, err error) {
	words := strings.Fields(text)
	wrong := fmt.Errorf(
		"read the fault %q: it is a client with `delay 80ms`, `jitter 40ms`, `loss 5%%` or `stall 2s+600ms`", text,
	)
	if len(words) != 3 {
		return f, wrong
	}
	f.Client = words[0]
	f.What = FaultKind(words[1])
	switch f.What {
	case FaultLoss:
		_, err = fmt.Sscanf(words[2], "%g%%", &f.Share)
		f.Share /= 100
	case FaultStall:
		from, length, ok := strings.Cut(words[2], "+")
		if !ok {
			return f, wrong
		}
		f.Time, err = time.ParseDuration(from)
		if err == nil {
			f.Length, err = time.ParseDuration(length)
		}
	case FaultDelay, FaultJitter:
		f.Time, err = time.ParseDuration(words[2])
	default:
		err = wrong
	}
	if err != nil || f.Time < 0 || f.Time > link.MaxDelay || f.Length < 0 || f.Length > link.MaxDelay ||
		!(f.Share >= 0 && f.Share <= link.MaxLoss) {
		return f, wrong
	}
	return f, nil
}

// seed returns the seed of a client's link: what goes wrong with one link does not depend on others.
//
// So leaving out one client's faults, to see whether the rest still fails, leaves the other links
// exactly as they were.
func (s *Shaking) seed(client string) uint64 {
	if s == nil {
		return seedOf(client)
	}
	return seedOf(client, fmt.Sprint(s.Seed))
}

// worsen adds what is wrong with a client's link to what the drill says of it.
//
// The worse of the two holds: shaking never makes a link better than the drill wants it.
func (s *Shaking) worsen(client string, c link.Conditions) link.Conditions {
	if s == nil {
		return c
	}
	for _, f := range s.Faults {
		if f.Client != client {
			continue
		}
		switch f.What {
		case FaultDelay:
			c.Delay = max(c.Delay, f.Time)
		case FaultJitter:
			c.Jitter = max(c.Jitter, f.Time)
		case FaultLoss:
			c.Loss = max(c.Loss, f.Share)
		}
	}
	return c
}

// stalls returns when the connection of a client takes nothing.
func (s *Shaking) stalls(client string) (out []stall) {
	if s == nil {
		return nil
	}
	for _, f := range s.Faults {
		if f.Client == client && f.What == FaultStall {
			out = append(out, stall{f.Time, f.Time + f.Length})
		}
	}
	return out
}

// shaking picks what goes wrong in one of many runs.
//
// A client gets any number of the four kinds. The ranges are those of bad links that people play over;
// MaxDelay and MaxLoss of package link are far beyond.
func shaking(seed uint64, clients []string) *Shaking {
	r := dice(seed)
	s := &Shaking{Seed: seed}
	ms := func(n int) time.Duration { return time.Duration(1+r.IntN(n)) * time.Millisecond }
	for _, c := range clients {
		if r.IntN(3) > 0 {
			s.Faults = append(s.Faults, Fault{Client: c, What: FaultDelay, Time: ms(200)})
		}
		if r.IntN(2) > 0 {
			s.Faults = append(s.Faults, Fault{Client: c, What: FaultJitter, Time: ms(100)})
		}
		if r.IntN(2) > 0 {
			s.Faults = append(s.Faults, Fault{Client: c, What: FaultLoss, Share: float64(1+r.IntN(20)) / 100})
		}
		for range r.IntN(3) {
			s.Faults = append(s.Faults, Fault{
				Client: c,
				What:   FaultStall,
				Time:   ms(5000),
				Length: ms(1200),
			})
		}
	}
	return s
}

// shrink leaves out faults for as long as what is left still fails, and then makes those that are left as small as it
// can.
//
// It is greedy: the result cannot lose any single fault, but some pair of them might be needless. fails
// runs the drill, so the number of its calls is what this takes: at most the square of the faults, and
// six for each that stays.
func shrink(s *Shaking, fails func(*Shaking) bool) *Shaking {
	best := s
	for again := true; again; {
		again = false
		for i := len(best.Faults) - 1; i >= 0; i-- {
			fewer := &Shaking{best.Seed, slices.Delete(slices.Clone(best.Faults), i, i+1)}
			if fails(fewer) {
				best = fewer
				again = true
			}
		}
	}
	for i := range best.Faults {
		for range 6 {
			f := best.Faults[i]
			f.Share, f.Length = float64(int(f.Share*50))/100, (f.Length / 2).Round(time.Millisecond)
			if f.What != FaultStall {
				f.Time = (f.Time / 2).Round(time.Millisecond)
			}
			if f.Share == 0 && f.Length == 0 && (f.Time == 0 || f.What == FaultStall) {
				break
			}
			smaller := &Shaking{best.Seed, slices.Clone(best.Faults)}
			smaller.Faults[i] = f
			if !fails(smaller) {
				break
			}
			best = smaller
		}
	}
	return best
}
