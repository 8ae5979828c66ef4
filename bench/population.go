package main

import (
	"fmt"
	"strings"
)

// population is a contract like Tidewreck's with many clients: each is in five audiences, gets about 400 bytes a tick
// of which 20 are its own (two values, as in Tidewreck), and a tenth of them come to another room of the wreck each
// second. With `driven`, clients set their own places.
//
//revive:disable-next-line:function-length It is one text.
func population(rate int) string {
	return strings.NewReplacer("RATE", fmt.Sprint(rate), "TICK", fmt.Sprintf("%dms", 1000/rate)).Replace(
		`contract population language 1
tick RATE per second
seats 1000
roles player, spectator
type Place = vec2 -2000..2000 step 0.01
type Sense = vec3 -8000000000000..8000000000000 step 1
setting driven: bool = false
audience mates(c: Chart) = viewer.Diver.crew == c.crew
audience near(e: Eel) = distance(viewer.Diver.pos, e.pos) <= 60
audience close(d: Diver) = distance(viewer.Diver.pos, d.pos) <= 60

entity Diver per player {
  crew: int 0..3 = 0
  pos: Place = vec(0, 0) to close(self) set by owner pace distance(old, new) 99999 per second burst 99999
  sense: Sense to owner
  air: int 0..2000000000 = 0 to owner
  mark: int 0..2000000000 = 0
  request poke(n: int 0..2000000000) { mark = n }
  on spawn {
    crew = roll(0..3)
    watch = roll(0..9)
    pos = vec(300 * roll(0..4), 300 * roll(0..3))
  }
  watch: int 0..9 once to nobody
}
entity Buoy { n: int 0..2000000000 = 0 }
entity Lamp to player { n: int 0..2000000000 = 0 }
entity Chart { crew: int 0..3 once; n: int 0..2000000000 = 0 to mates(self) }
entity Eel to near(self) { pos: Place once; n: int 0..2000000000 = 0 }
shared Wreck to nobody {
  on start {
    for a in [0, 1, 2, 3] {
      for b in [0, 1, 2, 3, 4] {
        for i in [0, 1, 2, 3] {
          spawn Eel { n = roll(0..2000000000); pos = vec(300 * b + i, 300 * a) }
          spawn Eel { n = roll(0..2000000000); pos = vec(300 * b + i, 300 * a + 1) }
          spawn Eel { n = roll(0..2000000000); pos = vec(300 * b + i, 300 * a + 2) }
          spawn Eel { n = roll(0..2000000000); pos = vec(300 * b + i, 300 * a + 3) }
        }
        spawn Buoy { n = roll(0..2000000000) }
        spawn Lamp { n = roll(0..2000000000) }
        for c in [0, 1, 2, 3] { spawn Chart { crew = c; n = roll(0..2000000000) } }
      }
    }
  }
  x: int 0..999999999 = 0
  turn: int 0..9 = 0
  every 1s while not driven {
    turn = (turn + 1) % 10
    for d in Diver where d.watch == turn { d.pos = vec(300 * roll(0..4), 300 * roll(0..3)) }
  }
  every TICK {
    x = roll(0..999999999)
    for e in Buoy { e.n = (1103515245 * e.n + 12345) % 2000000001 }
    for e in Lamp { e.n = (1103515245 * e.n + 12345) % 2000000001 }
    for e in Chart { e.n = (1103515245 * e.n + 12345) % 2000000001 }
    for e in Eel { e.n = (1103515245 * e.n + 12345) % 2000000001 }
    let heard = vec(8000 * x, 0 - 8000 * x, 4000000000000 - 8000 * x)
    let rest = 2 * x
    for d in Diver { d.sense = heard; d.air = rest }
  }
}
`,
	)
}

// lean is a contract whose clients ask for things that everyone sees, and nothing else happens.
const lean = `contract lean language 1
tick 20 per second
seats 1000
entity Diver per player {
  mark: int 0..2000000000 = 0
  request poke(n: int 0..2000000000) { mark = n }
}
`
