package session

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const seenText = `contract reef language 2
tick 20 per second
seats 8 grace 30s
roles diver, keeper
entity Buoy {
  shade: int 0..9 = 0
  hidden: int 0..9 = 0 to keeper
  owned: int 0..9 = 0 to owner
}
entity Diver per diver {
  met:    bool = false
  shaded: bool = false
  secret: bool = false
  mine:   bool = false
  other:  bool = false
  request look() from everyone {
    let b = first(b in Buoy else nothing)
    met = has_seen(owner, b)
    if b != nothing {
      shaded = has_seen(owner, b.shade)
      secret = reveal(has_seen(owner, b.hidden))
      mine = reveal(has_seen(owner, b.owned))
    }
    other = has_seen(server, self)
  }
  request paint() from everyone { for b in Buoy { b.shade = (b.shade + 1) % 9 } }
  request take() from everyone { for b in Buoy { give b to caller } }
  request put() from everyone { spawn Buoy }
  request sink() from everyone { for b in Buoy { despawn b } }
}
`

// What a client has seen is what it has confirmed, and no more.
func TestAClientHasSeenWhatItHasConfirmed(t *testing.T) {
	for name, limit := range map[string]int{"": 0, "with a limit of bytes": 4000} {
		t.Run(name, func(t *testing.T) {
			text := seenText
			if limit > 0 {
				text = withByteLimit(text, limit)
			}
			g := open(t, text)
			ana := g.join("Ana", "diver")
			bo := g.join("Bo", "diver")
			g.tick()
			diver := g.copies[bo].OwnedBy("Diver", ana).Number
			// look returns what Ana is taken to have seen; Bo asks, so that she need not say anything.
			look := func() string {
				g.ask(bo, diver, "Diver.look")
				out := ""
				for _, p := range []string{"met", "shaded", "secret", "mine", "other"} {
					if g.sees(bo, ana, "Diver", p) == "true" {
						out += p + " "
					}
				}
				return out
			}
			confirm := func() {
				g.s.Confirm(ana, g.step.Tick)
				g.tick()
			}
			assert.Empty(t, look(), "there is no buoy")
			g.ask(bo, diver, "Diver.put")
			assert.Empty(t, look(), "it is on its way")
			assert.Empty(t, look(), "and nothing was confirmed")
			confirm()
			assert.Equal(t, "met shaded ", look())
			g.ask(bo, diver, "Diver.paint")
			assert.Equal(t, "met ", look(), "it has another shade, which is on its way")
			confirm()
			assert.Equal(t, "met shaded ", look())
			g.ask(ana, diver, "Diver.take")
			assert.Equal(t, "met shaded ", look())
			confirm()
			assert.Equal(t, "met shaded mine ", look(), "what only owners get came with it")
			g.ask(bo, diver, "Diver.paint")
			g.ask(bo, diver, "Diver.paint")
			g.s.Confirm(ana, g.step.Tick-1)
			g.tick()
			assert.Equal(t, "met mine ", look(), "the first change is confirmed, and not the second")
			g.s.Lost(ana)
			g.tick()
			assert.Equal(t, "met mine ", look())
			g.s.Back(ana, g.s.Now())
			g.readers[ana] = g.s.Reader(ana)
			g.tick()
			g.tick()
			assert.Empty(t, look(), "it is sent everything anew")
			confirm()
			assert.Equal(t, "met shaded mine ", look())
			g.ask(bo, diver, "Diver.sink")
			assert.Equal(t, "shaded mine ", look(), "it is gone, and nothing more is asked of it")
			require.NotNil(t, g.copies[bo].Entity(diver))
		})
	}
}
