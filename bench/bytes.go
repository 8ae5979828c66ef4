package main

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"

	"github.com/klauspost/compress/dict"
	"github.com/klauspost/compress/zstd"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/play"
	"kamerad.example/core/replicate"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/demo"
)

// diver plays Tidewreck in virtual time: it swims, and asks for what its contract lets it.
type diver struct {
	outline *contract.Outline
	me      wire.Client
	copy    replicate.Copy
	reader  *wire.Reader
	actor   *play.Actor
	random  *rand.Rand
	seq     uint64
	speed   [2]float64
	ready   bool
}

func (d *diver) Outline() *contract.Outline     { return d.outline }
func (d *diver) Me() wire.Client                { return d.me }
func (d *diver) Look(f func(c *replicate.Copy)) { f(&d.copy) }

// recorded is a frame as it came, with what it says.
type recorded struct {
	bytes int
	json  []byte
}

// information adds up what a perfect coder would need, of zero order: for each property the entropy of its differences,
// and that of whether it changed, for each entity of which a client has it.
type information struct {
	differences map[string]map[int64]int
	changed     map[[2]string][2]int // times that a property in view changed, and that it did not
}

// entropy returns how many bits it takes at least to tell which of some things happened, all told, by how often each
// did (Shannon, 1948).
func entropy(counts map[int64]int) (bits float64) {
	total := 0
	for _, n := range counts {
		total += n
	}
	for _, n := range counts {
		if n == 0 {
			continue
		}
		bits -= float64(n) * math.Log2(float64(n)/float64(total))
	}
	return bits
}

// bits returns how many bits what was noted takes at least.
func (in *information) bits() (out float64) {
	for _, counts := range in.differences {
		out += entropy(counts)
	}
	for _, c := range in.changed {
		out += entropy(map[int64]int{0: c[0], 1: c[1]})
	}
	return out
}

// scalars returns the numbers that a value is made of; ok is false for what is no number.
func scalars(t *contract.Type, v contract.Value) (out []int64, ok bool) {
	if len(v.Parts) == 0 {
		return []int64{v.Num}, t.Form != contract.FormText && t.Max == 0
	}
	for _, p := range v.Parts {
		out = append(out, p.Num)
	}
	return out, t.Reals() == len(v.Parts)
}

// playTidewreck lets clients play for so many ticks and returns what each of them got. Only frames that hold nothing
// but changes count for the information: what a spawn or a snapshot would need is not asked.
func playTidewreck(seed uint64, clients, ticks int) (frames []recorded, in *information, pure int, err error) {
	s, order, err := tidewreckDivers(seed, clients)
	if err != nil {
		return nil, nil, 0, err
	}
	divers := map[int]*diver{}
	for _, d := range order {
		divers[d.me.Number] = d
	}
	in = &information{map[string]map[int64]int{}, map[[2]string][2]int{}}
	for range ticks {
		for _, d := range order {
			d.act(s)
		}
		step := s.Tick()
		got := map[int]*wire.Frame{}
		sizes := map[int]int{}
		for _, cf := range step.Frames {
			d := divers[cf.Client]
			f, err := d.reader.Read(cf.Bytes)
			if err != nil {
				return nil, nil, 0, err
			}
			got[cf.Client] = f
			sizes[cf.Client] = len(cf.Bytes)
			frames = append(frames, recorded{len(cf.Bytes), f.AppendJSON(nil)})
		}
		for n, d := range divers {
			f := got[n]
			if f != nil && !plainChanges(f) {
				d.copy.Apply(f)
				continue
			}
			if f != nil {
				pure += sizes[n] - 2 // what every frame begins with
			}
			in.look(d, f)
			if f != nil {
				d.copy.Apply(f)
			}
			d.copy.Advance(step.Tick)
		}
		for n, d := range divers {
			s.Confirm(n, d.copy.Tick)
		}
	}
	return frames, in, pure, nil
}

// tidewreckDivers opens a session of Tidewreck with so many divers, in the order in which they joined.
func tidewreckDivers(seed uint64, clients int) (*session.Session, []*diver, error) {
	c, problems := compile.LoadWith(
		"tidewreck.kam", strings.Replace(demo.Contract, "seats 16", "seats 24", 1), demo.Files.Open,
	)
	if c == nil {
		return nil, nil, problems
	}
	s, err := session.New(c, session.Options{Key: [32]byte{byte(seed)}})
	if err != nil {
		return nil, nil, err
	}
	var order []*diver
	for i := range clients {
		n, err := s.Join(fmt.Sprint("Diver ", i+1), "player")
		if err != nil {
			return nil, nil, err
		}
		d := &diver{
			outline: c.Outline(),
			me:      wire.Client{Number: n, Role: "player"},
			reader:  s.Reader(n),
			random:  rand.New(rand.NewPCG(seed, uint64(i))),
		}
		d.actor = play.NewActor(d, d.random)
		d.copy.Me = n
		order = append(order, d)
		s.Ready(n)
	}
	return s, order, nil
}

// plainChanges reports whether a frame holds nothing but new values of what its client has.
func plainChanges(f *wire.Frame) bool {
	if f.Snapshot || f.Digest != nil || len(f.Events)+len(f.Decisions)+len(f.Logs) > 0 {
		return false
	}
	for _, b := range f.Blocks {
		if len(b.Joined)+len(b.Spawned)+len(b.Owned)+len(b.Gone)+len(b.Left) > 0 {
			return false
		}
		for _, u := range b.Values {
			if len(u.Withdrawn) > 0 {
				return false
			}
		}
	}
	return true
}

// look adds what a frame says about a client's copy, or that there was none.
func (in *information) look(d *diver, f *wire.Frame) {
	type place struct {
		entity uint32
		name   string
	}
	changed := map[place]wire.Field{}
	if f != nil {
		for _, b := range f.Blocks {
			for _, u := range b.Values {
				for _, x := range u.Fields {
					changed[place{u.Entity, x.Name}] = x
				}
			}
		}
	}
	for _, t := range d.copy.Entities() {
		for _, old := range t.Fields {
			name := [2]string{t.Kind, old.Name}
			now, has := changed[place{t.Number, old.Name}]
			c := in.changed[name]
			if !has {
				c[1]++
				in.changed[name] = c
				continue
			}
			c[0]++
			in.changed[name] = c
			before, one := scalars(old.Type, old.Value)
			after, two := scalars(now.Type, now.Value)
			if !one || !two || len(before) != len(after) {
				before = []int64{0}
				after = []int64{int64(len(fmt.Sprint(now.Value)))} // as if its length said all
			}
			for i := range after {
				part := fmt.Sprint(name, " ", i)
				if in.differences[part] == nil {
					in.differences[part] = map[int64]int{}
				}
				in.differences[part][after[i]-before[i]]++
			}
		}
	}
}

// act lets a diver do what it does in a tick.
func (d *diver) act(s *session.Session) {
	me := d.copy.OwnedBy("Diver", d.me.Number)
	if me == nil {
		return
	}
	seen := s.Now()
	ask := func(entity uint32, request string, args []json.RawMessage) {
		d.seq++
		s.Ask(d.me.Number, s.ReadRequest(wire.Ask{
			Seq:     d.seq,
			Entity:  entity,
			Request: request,
			Args:    args,
			Seen:    seen,
		}))
	}
	if !d.ready {
		if dive := d.copy.OwnedBy("Dive", 0); dive != nil {
			seed, _ := dive.Value("seed")
			ask(0, "Diver.get_ready", []json.RawMessage{json.RawMessage(fmt.Sprint(seed.Num))})
			d.ready = true
		}
		return
	}
	if d.random.IntN(30) == 0 { // another way
		d.speed = [2]float64{d.random.Float64()*10 - 5, d.random.Float64()*6 - 3}
		if d.random.IntN(4) == 0 {
			d.speed = [2]float64{} // it rests
		}
	}
	if d.speed != [2]float64{} {
		pos, _ := me.Value("pos")
		d.seq++
		at := fmt.Sprintf(
			"[%.2f,%.2f]", float64(pos.Parts[0].Num)/100+d.speed[0]/20, float64(pos.Parts[1].Num)/100+d.speed[1]/20,
		)
		s.Steer(d.me.Number, s.ReadSteering("write", wire.Move{
			Seq:      d.seq,
			Property: "Diver.pos",
			Value:    json.RawMessage(at),
			Seen:     seen,
		}))
	}
	if d.random.IntN(30) == 0 {
		if entity, request, args := d.actor.Pick(); request != "" && request != "Diver.get_ready" {
			ask(entity, request, args)
		}
	}
}

// bytes compares what 20 divers get with what other ways would take.
type bytesOver struct {
	PerClientTick float64
	JSON          float64
	Zstd          float64
	Entropy       float64
}

// bytesOf plays Tidewreck for so many minutes and returns what its frames took, beside what they had to.
func bytesOf(minutes float64) (out bytesOver, err error) {
	ticks := int(minutes * 60 * 20)
	other, _, _, err := playTidewreck(2, 20, min(ticks, 20*60))
	if err != nil {
		return out, err
	}
	var samples [][]byte
	for i, f := range other {
		if i%7 == 0 && len(samples) < 4000 {
			samples = append(samples, f.json)
		}
	}
	samples = samples[:min(len(samples), 400)] // training takes its time
	words, err := dict.BuildZstdDict(samples, dict.Options{MaxDictSize: 64 << 10, HashBytes: 6, ZstdDictID: 7})
	if err != nil {
		return out, fmt.Errorf("train a dictionary: %w", err)
	}
	z, err := zstd.NewWriter(
		nil, zstd.WithEncoderDict(words), zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1),
	)
	if err != nil {
		return out, err
	}
	frames, in, pure, err := playTidewreck(1, 20, ticks)
	if err != nil {
		return out, err
	}
	ours := 0
	plain := 0
	sampled := 0
	packed := 0
	for i, f := range frames {
		ours += f.bytes
		plain += len(f.json)
		if i%20 == i/20%20 { // one of twenty: compressing takes its time
			sampled += f.bytes
			packed += len(z.EncodeAll(f.json, nil))
		}
	}
	out.PerClientTick = float64(ours) / float64(ticks) / 20
	out.JSON = float64(ours) / float64(plain)
	out.Zstd = float64(sampled) / float64(packed)
	out.Entropy = float64(pure) * 8 / in.bits()
	return out, nil
}
