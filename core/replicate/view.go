// Package replicate decides which client is sent what, and holds what a client makes of it: its copy.
//
// The server's side, the View, sorts clients and entities into circles: those who are in an audience together. What changed in a
// tick is written once for each circle, however many are in it, and what only one client may have into a block of its own. So the
// cost of a tick grows with changes plus clients. All see the same values: what was last sent of a property, to whomever.
package replicate

import (
	"cmp"
	"slices"

	"kamerad/core/contract"
	"kamerad/core/rules"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// Rules answer whether a client may have something.
type Rules interface {
	// Sees tells whether a client may know of an entity.
	Sees(e *world.Entity, client int) bool
	// Gets tells whether a client gets a property of an entity that it may know of.
	Gets(e *world.Entity, p *contract.Property, client int) bool
	// Splits tells whether an audience is found by keys, and whether also by nearness.
	Splits(a *contract.Named) (keys, near bool)
	// Viewer and Subject compute the two sides of such an audience, Radius how near is near enough.
	Viewer(a *contract.Named, client int, out *rules.Side) bool
	Subject(a *contract.Named, e *world.Entity, out *rules.Side) bool
	Radius(a *contract.Named) (float64, bool)
}

// View is what has been sent to the clients of one session.
type View struct {
	key       [32]byte
	world     *world.World
	rules     Rules
	layout    *wire.Layout
	outline   *contract.Outline
	audiences []*audience // by the outline's groups
	plans     []plan      // by kind
	viewers   []*viewer   // by number
	roster    []byte      // of this tick
	rosterSum uint64
	joined    []wire.Client
	left      []int
	buffer    wire.Buffer
	sent      map[world.ID]*sent
	byNumber  map[uint32]*world.Entity
	fresh     []*sent // spawned in this tick
	gone      []*sent // despawned in this tick, once they were announced
	past      []*sent // that the last Cut was told are gone
	stirred   []*sent // that came to circles or left some with the last Cut
	given     []*sent // that may have another owner
	dirty     []*sent // with changes that are sent in this tick
	waiting   []*sent // with properties that wait for their time
	again     []again
	entries   int       // that clients have by themselves, of all clients and entities
	hint      int       // where the next client that is asked for stands among the viewers
	turning   []*viewer // whose sides may be others
	looked    []*viewer // whose sides were looked at in this Cut
	touched   []*viewer // with something that holds for this Cut alone
	entered   []*viewer // that have something new by themselves
	spoken    []*viewer // whose own groups may have something to say
	stamp     int64     // goes up with each Done
	warmth    int64
	hiding    bool // there are values with refs that not all may know of

	// What the sides of audiences read, by kind. Only whose side may have changed is looked at again.
	reads    [3][]uint64 // of the viewer's own, of the entity that the audience is of, and of shared ones
	restless []*sent     // whose own side may be another one
	stale    bool        // every viewer's side may be another one
	unsorted bool        // and every entity's
	always   bool        // the entity's side of some audience may be another one in each tick
	changing bool        // the viewer's side of some audience may
	turned   bool        // some circle is no longer empty, or is
}

type again struct {
	s      *sent
	p      *contract.Property
	client int
}

// plan says how a kind travels.
type plan struct {
	view *View
	contract.KindGrouping
	place  int   // in the outline; -1 for what no client ever knows of
	props  []int // by property: its place in the kind's outline, -1 for none
	back   []*contract.Property
	plain  uint64  // properties that are sent as differences
	lanes  []place // of all groups
	asked  bool    // each client has to be asked
	owned  bool    // an owner gets something of its own
	nearby bool    // who is near gets something
	shown  uint64  // properties that somebody may get
	shared uint64  // and that circles have
	spans  []span  // by property: its slots
	rows   []span  // by property: what was last sent of it, in the row; what was sent before that follows
	row    int     // how long that is
	lazy   uint64  // properties whose part of the digest is computed when it is asked for: only clients by themselves have them
	moves  bool    // some property follows another one
	hides  bool    // some value has refs that not all may know of
}

type place struct{ audience, lane int }

type span struct{ from, to int }

// audience is a group of the outline.
type audience struct {
	*contract.Group
	index   int
	near    bool
	parts   int // of the places that it compares
	radius  float64
	size    float64 // of a cell
	inLane  [][]int // by lane: by property, its place in the lane or -1
	mask    []uint64
	yes     *circle
	circles map[circleKey]*circle
	own     []uint64 // by kind: properties of the viewer's own that its side reads
	all     [2]bool  // the viewer's and the entity's side may be another one in each tick
	version int      // as of the View
}

// circleKey is what those in one circle share: equal keys and, of nearness, the cell that the entities are in.
type circleKey struct {
	keys [4]int64
	cell [3]int64
}

// circle is a set of clients and the entities that they all get.
type circle struct {
	audience *audience
	key      circleKey
	group    *wire.Group
	members  int
	entities []*sent
	stirred  int64 // the tick in which entities in it were restless
	restless []*sent
	digest   uint64
	block    []byte // of this tick
	snapshot []byte // of this tick
	enters   []entering
}

type entering struct {
	s    *sent
	lane int
}

// placed is where an entity stands in a circle.
type placed struct {
	circle     *circle
	lane, slot int
	fresh      bool // it came in this tick
}

// viewer is a client with what it gets. What each tick looks at is at the front.
type viewer struct {
	number  int  // that of the client
	first   bool // it has been sent nothing: a snapshot comes
	moved   bool // it has another role, or everything is sent anew
	stale   bool // it is looked at with this Cut
	waits   bool // for its snapshot
	settled bool // of what was looked at: nothing at the edge of its view may be another thing than before
	touched bool
	spoken  bool
	gone    bool
	alone   *hold // the first of those of which something is new in this tick
	private *wire.Group
	digest  uint64 // of what is its own
	circles []member
	leaves  []int // handles of the circles that it left in this tick

	which   uint64 // the audiences of which its side may be another one, by their places; all from the 64th on count as the last
	role    uint
	client  wire.Client
	left    []*circle  // the circles that it left in this tick
	dropped []world.ID // in this tick
	sights  []sight
	edges   []*circle // of which a client may see a part
	held    map[world.ID]*hold
	holds   []*hold // the same, in no order
	enters  []*hold
	handles int
	free    []int
	_       [48]byte // of a size that Go puts at the beginning of a line
}

// sight is what a viewer's side of an audience was, and the circles that it leads to.
type sight struct {
	known   bool
	in      bool // the side could be computed
	version int  // of the audience
	side    rules.Side
	margin  float64 // how far the viewer may go before anything comes of it
	want    []*circle
	edges   []*circle
}

type member struct {
	circle *circle
	handle int
	fresh  bool
}

// hold is an entity of which a client has something by itself. What each tick looks at is the first line of memory.
type hold struct {
	*sent
	viewer    *viewer
	also      *hold  // what else is new to this viewer
	following *hold  // of all who have the entity by themselves
	mask      uint64 // by place in the outline
	next      uint64
	slot      int32
	at        int32 // among the viewer's holds
	whole     bool
	came      bool // in this tick
	listed    bool // it is among those of which something is new to the viewer
	gone      bool
	masked    map[int]wire.Field // by place: refs of which this client may not know
	sums      map[int]uint64     // of those
	previous  *hold
	_         [40]byte // of a size that Go puts at the beginning of a line
}

// sent is an entity as it was last sent. What each tick looks at is at the front.
type sent struct {
	plan    *plan
	entity  *world.Entity
	number  uint32
	live    bool // it has been announced
	flash   bool // it came and went in one tick, and an event speaks of it
	lists   uint8
	stamp   int64   // of the View, when something was last sent
	send    uint64  // properties that were sent then
	later   uint64  // properties that changed and wait for their time
	holders *hold   // the first of them
	row     []int64 // of each plain property what was last sent, and before that

	ticks  []int64  // by property: when it was last sent, of one that has a rate
	sums   []uint64 // by property that circles have: its part of the digest
	diffs  []uint64 // and what the change of this tick adds to it
	at     []placed
	change uint64 // what giving it away adds to the entity's own part of the digest
	sum    uint64 // that part
	owner  int
	fields []wire.Field // by property: what is not plain
	exited []placed     // in this tick
	turned int64        // the tick in which it last came to a circle or left one
}

// Lists that an entity is in.
const (
	inGiven = 1 << iota
	inDirty
	inRestless
)

// NewView makes the view of a session. The key hides how entities are numbered inside the server.
func NewView(key [32]byte, w *world.World, r Rules) *View {
	c := w.Contract()
	v := &View{key: key, world: w, rules: r, layout: wire.NewLayout(c.Outline()), sent: map[world.ID]*sent{}, byNumber: map[uint32]*world.Entity{}}
	v.outline = v.layout.Outline
	for i := range v.reads {
		v.reads[i] = make([]uint64, len(c.Kinds))
	}
	grouping := c.Grouping()
	for i, kind := range c.Kinds {
		p := plan{view: v, KindGrouping: grouping.Kinds[i], place: -1}
		p.place = slices.IndexFunc(v.outline.Kinds, func(k contract.KindOutline) bool { return k.Name == kind.Name })
		for _, prop := range kind.Properties {
			at := -1
			if p.place >= 0 && prop.To != contract.Nobody {
				at = len(p.back)
				p.back = append(p.back, prop)
				p.shown |= 1 << prop.Index
				if wire.Plain(prop.Type) && !prop.Loose && !prop.Moves() && !prop.Attaches() {
					p.plain |= 1 << prop.Index
				}
			}
			width := prop.Type.Width()
			p.spans, p.rows = append(p.spans, span{prop.Slot, prop.Slot + width}), append(p.rows, span{p.row, p.row + width})
			p.row += 2 * width
			p.moves = p.moves || prop.Follows != nil
			p.props = append(p.props, at)
		}
		v.plans = append(v.plans, p)
	}
	for i, g := range grouping.Groups {
		a := &audience{Group: g, index: i, circles: map[circleKey]*circle{}}
		if g.Aud != nil && g.Aud.Split() != nil {
			for side, reads := range g.Aud.Split().Reads() {
				a.all[side] = reads.All
				v.always = v.always || reads.All
				v.changing = v.changing || side == 0 && reads.All
				if side == 0 {
					a.own = make([]uint64, len(c.Kinds))
				}
				for k, mask := range reads.Own {
					if v.reads[side][k.Index] |= mask; side == 0 {
						a.own[k.Index] = mask
					}
				}
				for k, mask := range reads.Shared {
					v.reads[2][k.Index] |= mask
				}
			}
		}
		if g.Aud != nil {
			if _, a.near = r.Splits(g.Aud); a.near {
				a.parts = g.Aud.Split().At[0].Value.Type.Width()
			}
		}
		for j, l := range g.Lanes {
			in, mask := make([]int, len(l.Kind.Properties)), uint64(0)
			for k := range in {
				in[k] = slices.Index(l.Properties, l.Kind.Properties[k])
				if in[k] >= 0 {
					mask |= 1 << k
				}
			}
			a.inLane, a.mask = append(a.inLane, in), append(a.mask, mask)
			v.plans[l.Kind.Index].shared |= mask
			v.plans[l.Kind.Index].lanes = append(v.plans[l.Kind.Index].lanes, place{i, j})
		}
		if g.Yes != 0 {
			a.yes = v.circle(a, circleKey{})
		}
		v.audiences = append(v.audiences, a)
	}
	for i := range v.plans {
		p := &v.plans[i]
		private := func(r contract.Reach, asked bool) {
			p.asked = p.asked || asked || r.Term == contract.ByPair
			p.owned = p.owned || r.Term == contract.ByOwner
			if r.Term == contract.ByAudience {
				_, near := v.rules.Splits(r.Aud)
				p.nearby = p.nearby || near
			}
		}
		private(p.Reach, false)
		for j, x := range p.Properties {
			p.hides = p.hides || x.Hides
			if p.props[j] >= 0 && !x.With {
				private(x.Reach, x.Asked)
			}
		}
		v.hiding = v.hiding || p.hides
		p.lazy = p.shown &^ p.shared
		for j, x := range p.Properties {
			if x.Hides {
				p.lazy &^= 1 << j // what each client has of it is another value
			}
		}
	}
	return v
}

func (v *View) circle(a *audience, key circleKey) *circle {
	return &circle{audience: a, key: key, group: wire.NewGroup(v.layout, a.index)}
}

// Joined tells of a new client, or of one that has another role.
func (v *View) Joined(c wire.Client) {
	v.joined = slices.DeleteFunc(v.joined, func(x wire.Client) bool { return x.Number == c.Number })
	v.joined = append(v.joined, c)
	role := slices.Index(v.outline.Roles, c.Role)
	if u := v.viewer(c.Number); u != nil {
		v.rosterSum -= wire.DigestClient(u.client, int(u.role))
		u.client, u.role, u.moved = c, uint(role), true
		u.turn(v)
	} else {
		u := &viewer{number: c.Number, client: c, role: uint(role)}
		u.begin(v)
		v.viewers = append(v.viewers, u)
	}
	v.rosterSum += wire.DigestClient(c, role)
}

// Entries returns how many entities clients are told of by themselves: the sum over all clients.
func (v *View) Entries() int { return v.entries }

// begin lets a viewer be sent everything anew.
func (u *viewer) begin(v *View) {
	for _, m := range u.circles {
		m.circle.members--
	}
	for _, h := range u.holds {
		h.leave()
	}
	v.entries -= len(u.holds)
	u.turn(v)
	u.first, u.moved, u.circles, u.held, u.holds, u.digest, u.handles, u.free = true, true, nil, map[world.ID]*hold{}, nil, 0, 0, nil
	u.private, u.sights = wire.NewPrivate(v.layout, &v.buffer), make([]sight, len(v.audiences))
}

// Resync sends a client all that it may have with the next Cut, as a snapshot.
func (v *View) Resync(client int) {
	if u := v.viewer(client); u != nil {
		u.begin(v)
	}
}

// Waits tells whether a client waits for a snapshot that comes with a later Cut: until then it is sent nothing.
func (v *View) Waits(client int) bool { return v.viewer(client).waits }

// Left tells of a client that is gone.
func (v *View) Left(number int) {
	u := v.viewer(number)
	if u == nil {
		return
	}
	v.rosterSum -= wire.DigestClient(u.client, int(u.role))
	u.begin(v)
	u.gone = true
	v.viewers = slices.DeleteFunc(v.viewers, func(x *viewer) bool { return x == u })
	v.joined = slices.DeleteFunc(v.joined, func(x wire.Client) bool { return x.Number == number })
	v.left = append(v.left, number)
}

// turn has a viewer looked at.
func (u *viewer) turn(v *View) {
	if !u.stale {
		u.stale = true
		v.turning = append(v.turning, u)
	}
}

// touch notes that a viewer has something that holds for this Cut alone.
func (u *viewer) touch(v *View) {
	if !u.touched {
		u.touched = true
		v.touched = append(v.touched, u)
	}
}

// viewer finds a client. Mostly they are asked for one after the other.
func (v *View) viewer(number int) *viewer {
	for i := v.hint; i < min(v.hint+2, len(v.viewers)); i++ {
		if u := v.viewers[i]; u.number == number {
			v.hint = i
			return u
		}
	}
	i, found := slices.BinarySearchFunc(v.viewers, number, func(u *viewer, n int) int { return u.number - n })
	if !found {
		return nil
	}
	v.hint = i
	return v.viewers[i]
}

// of gives what was sent of an entity.
func (v *View) of(e *world.Entity) *sent {
	if s, ok := e.Shown.(*sent); ok && s.plan.view == v {
		return s
	}
	return v.sent[e.ID]
}

// Spawned tells of a new entity. It is sent with the values that it has when the tick is cut.
func (v *View) Spawned(e *world.Entity) {
	s := &sent{plan: &v.plans[e.Kind.Index], number: number(v.key, e, len(v.plans)), entity: e, owner: e.Owner}
	v.sent[e.ID] = s
	e.Shown = s
	v.byNumber[s.number] = e
	v.fresh = append(v.fresh, s)
	v.stale = v.stale || v.reads[0][e.Kind.Index] != 0 // somebody has one of these now
}

// Despawned tells that an entity is gone.
func (v *View) Despawned(e *world.Entity) {
	s := v.of(e)
	if s == nil {
		return
	}
	delete(v.byNumber, s.number)
	v.stale = v.stale || v.reads[0][e.Kind.Index] != 0
	if s.live {
		v.gone = append(v.gone, s)
	}
}

// Speaks tells that an event of this tick names an entity: one that came and went in this tick is sent all the same.
func (v *View) Speaks(id world.ID) {
	if s := v.sent[id]; s != nil && !s.live {
		s.flash = true
	}
}

// Given tells that an entity may have another owner.
func (v *View) Given(e *world.Entity) {
	if s := v.of(e); s != nil && s.live && s.lists&inGiven == 0 {
		s.lists |= inGiven
		v.given = append(v.given, s)
	}
}

// Written tells that properties of an entity may have changed, one bit each. A value that is what was last sent is not sent.
func (v *View) Written(e *world.Entity, properties uint64) {
	s := v.of(e)
	k := e.Kind.Index
	if v.reads[0][k]&properties != 0 {
		v.unsettle(e, properties)
	}
	if v.reads[2][k]&properties != 0 {
		v.stale, v.unsorted = true, true
	}
	if s == nil || !s.live || e.Gone {
		return
	}
	if v.reads[1][k]&properties != 0 {
		s.disturb()
	}
	if s.plan.moves {
		properties = moved(e.Kind, properties)
	}
	for rest := properties & s.plan.shown; rest != 0; rest &= rest - 1 {
		p := e.Kind.Properties[lowest(rest)]
		bit := uint64(1) << p.Index
		if s.same(p) {
			s.later &^= bit
			continue
		}
		if p.AtMost > 0 && (v.world.Tick-s.ticks[p.Index])*int64(p.AtMost) < int64(v.world.Contract().TickRate) {
			if s.later == 0 {
				v.waiting = append(v.waiting, s)
			}
			s.later |= bit
			continue
		}
		s.take(p)
	}
	if s.stamp == v.stamp { // who has it by itself is told
		for h := s.holders; h != nil; h = h.following {
			h.list()
		}
	}
}

// Warm reads what Written is about to read of some entities, as world.Warm does.
func (v *View) Warm(list []*world.Entity) {
	v.warmth += world.Warm(list)
	for _, e := range list {
		if s, ok := e.Shown.(*sent); ok {
			v.warmth += int64(s.number) + s.stamp
		}
	}
	for _, e := range list {
		if s, ok := e.Shown.(*sent); ok {
			for i := 0; i < len(s.row); i += 8 {
				v.warmth += s.row[i]
			}
			if h := s.holders; h != nil {
				v.warmth += int64(h.slot)
			}
		}
	}
	for _, e := range list {
		if s, ok := e.Shown.(*sent); ok && s.holders != nil {
			v.warmth += int64(s.holders.viewer.number)
		}
	}
}

// Ahead reads what Parts is about to read of the next n clients, as world.Warm does.
func (v *View) Ahead(n int) {
	from := v.hint
	if from > 0 {
		from++ // that one was just dealt with
	}
	list := v.viewers[min(from, len(v.viewers)):min(from+n, len(v.viewers))]
	for _, u := range list {
		v.warmth += int64(u.number) + int64(u.digest)
	}
	for _, u := range list {
		if n := len(u.circles); n > 0 {
			v.warmth += int64(u.circles[0].handle) + int64(u.circles[n-1].handle)
		}
		if u.alone != nil {
			v.warmth += int64(u.alone.mask) + int64(u.private.Warm())
		}
	}
	for _, u := range list {
		if u.alone != nil {
			v.warmth += int64(u.private.WarmMore()) + u.alone.sent.stamp
		}
	}
}

// unsettle has the viewer looked at that an entity is the own one of.
func (v *View) unsettle(e *world.Entity, properties uint64) {
	if v.world.Of(e.Kind.Index, e.Owner) == e {
		if u := v.viewer(e.Owner); u != nil {
			u.turn(v)
			for i, a := range v.audiences {
				if a.own != nil && a.own[e.Kind.Index]&properties != 0 {
					u.which |= 1 << min(i, 63)
				}
			}
		}
		return
	}
	v.stale = true // it was given away
}

// disturb has an entity looked at.
func (s *sent) disturb() {
	if s.lists&inRestless == 0 {
		s.lists |= inRestless
		v := s.plan.view
		v.restless = append(v.restless, s)
	}
}

// Again sends a client the value of a property once more, as it is: what the client wrote itself was not taken.
func (v *View) Again(e *world.Entity, p *contract.Property, client int) {
	if s := v.sent[e.ID]; s != nil {
		v.again = append(v.again, again{s, p, client})
	}
}

// same tells whether a property is what was last sent.
func (s *sent) same(p *contract.Property) bool {
	e := s.entity
	if s.plan.plain&(1<<p.Index) != 0 {
		w, r := s.plan.spans[p.Index], s.plan.rows[p.Index]
		return slices.Equal(s.row[r.from:r.to], e.Nums[w.from:w.to])
	}
	old := &s.fields[p.Index]
	if old.Motion != nil && p.Moves() {
		f, w := p.Follows, p.Type.Width()
		began := f.Slot + w
		if e.Nums[began]-1 == old.Motion.At && isAt(old.Motion.From, e.Nums[f.Slot:began]) && isAt(old.Motion.Rate, e.Nums[began+1:began+1+w]) && slices.Equal(e.Nums[began+1:began+1+w], e.Nums[f.Rate.Slot:f.Rate.Slot+w]) && slices.Equal(e.Nums[began+1+w:began+1+2*w], e.Nums[p.Slot:p.Slot+w]) {
			return true // it goes on
		}
	}
	return s.read(p).Same(*old)
}

// isAt tells whether slots hold a value made of numbers.
func isAt(v contract.Value, slots []int64) bool {
	if len(v.Parts) == 0 {
		return v.Num == slots[0]
	}
	for i := range v.Parts {
		if v.Parts[i].Num != slots[i] {
			return false
		}
	}
	return true
}

// read gives a property as it is now.
func (s *sent) read(p *contract.Property) wire.Field {
	v := s.plan.view
	return wire.Field{Name: p.Name, Type: p.Type, Value: p.Type.Refs(v.world.Value(s.entity, p), v.public), Motion: motion(v.world, s.entity, p), Tied: tied(v.world, s.entity, p)}
}

// Refs gives a value with its refs as public numbers, whoever may know of them.
func (v *View) Refs(t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, v.public)
}

// public gives the number of an entity by its ID; of one that is gone, as of nothing, it is 0.
func (v *View) public(id int64) int64 {
	if e := v.world.Entity(world.ID(id)); e != nil {
		return int64(v.Number(e))
	}
	return 0
}

// take makes what a property is now what is sent of it in this tick.
func (s *sent) take(p *contract.Property) {
	v, i := s.plan.view, p.Index
	if s.stamp != v.stamp {
		s.stamp, s.send = v.stamp, 0
	}
	if s.lists&inDirty == 0 && s.plan.shared&(1<<i) != 0 {
		s.lists |= inDirty
		v.dirty = append(v.dirty, s)
	}
	s.later &^= 1 << i
	s.send |= 1 << i
	if p.AtMost > 0 {
		s.ticks[i] = v.world.Tick
	}
	if s.plan.plain&(1<<i) != 0 {
		w, r := s.plan.spans[i], s.plan.rows[i]
		now := s.row[r.from:r.to]
		copy(s.row[r.to:], now)
		copy(now, s.entity.Nums[w.from:w.to])
	} else {
		s.fields[i] = s.read(p)
	}
	if s.plan.lazy&(1<<i) == 0 {
		before := s.sums[i]
		s.sums[i] = s.digest(p)
		s.diffs[i] = s.sums[i] - before
	}
}

// digest gives what a property adds to the digest of who has it.
func (s *sent) digest(p *contract.Property) uint64 {
	i, at := p.Index, s.plan.props[p.Index]
	switch {
	case p.Loose:
		return 0
	case s.plan.plain&(1<<i) != 0:
		r := s.plan.rows[i]
		return wire.DigestSlots(s.number, at, s.row[r.from:r.to])
	}
	return s.fields[i].Digest(s.number, at)
}

// sends gives the properties that are sent in this tick.
func (s *sent) sends() uint64 {
	if s.stamp != s.plan.view.stamp {
		return 0
	}
	return s.send
}

// announce makes a new entity one that can be sent.
func (s *sent) announce() {
	k := s.entity.Kind
	n := len(k.Properties)
	s.live, s.owner = true, s.entity.Owner
	words := make([]uint64, 2*n)
	s.row, s.ticks, s.sums, s.diffs = make([]int64, s.plan.row), make([]int64, n), words[:n], words[n:]
	s.fields = make([]wire.Field, n)
	for _, p := range s.plan.back {
		s.take(p)
	}
	s.send = 0
	s.sum = wire.DigestEntity(s.number, s.plan.place, s.owner)
}

// Number is that toward clients.
func (s *sent) Number() uint32 { return s.number }

// Owner is a client's number, 0 for the server.
func (s *sent) Owner() int { return s.owner }

// Field gives a property as it is sent, by its place in the outline.
func (s *sent) Field(prop int) wire.Field {
	p := s.plan.back[prop]
	if s.plan.plain&(1<<p.Index) != 0 {
		_, now := s.Slots(prop)
		return wire.Field{Name: p.Name, Type: p.Type, Value: p.Type.FromSlots(now, nil)}
	}
	f := s.fields[p.Index]
	if f.Tied != nil { // where it is now, for when what it is attached to is gone
		f.Value = s.plan.view.world.Value(s.entity, p)
	}
	return f
}

// Slots gives a plain property as it was sent before, and as it is sent now.
func (s *sent) Slots(prop int) (old, now []int64) {
	i := s.plan.back[prop].Index
	r := s.plan.rows[i]
	now = s.row[r.from:r.to]
	if s.sends()&(1<<i) != 0 {
		return s.row[r.to : 2*r.to-r.from], now
	}
	return now, now
}

// Moved notes the slot in a circle.
func (s *sent) Moved(g *wire.Group, lane, slot int) {
	for i := range s.at {
		if x := &s.at[i]; x.circle.group == g && x.lane == lane {
			x.slot = slot
		}
	}
}

// Field gives a property as this client may have it.
func (h *hold) Field(prop int) wire.Field {
	if f, ok := h.masked[prop]; ok {
		return f
	}
	return h.sent.Field(prop)
}

// Entity finds an entity by the number that clients know it by, if this client may know of it; else nil.
func (v *View) Entity(client int, number uint32) *world.Entity {
	e := v.byNumber[number]
	if e == nil || e.Gone || !v.rules.Sees(e, client) {
		return nil
	}
	return e
}

// Number gives the number by which clients know an entity, 0 if none does.
func (v *View) Number(e *world.Entity) uint32 {
	if s := v.sent[e.ID]; s != nil {
		return s.number
	}
	return number(v.key, e, len(v.plans))
}

// For gives a value as one client may have it at this moment: refs as public numbers, and as nothing where the client may not know
// of the entity.
func (v *View) For(client int, t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, func(id int64) int64 {
		if e := v.world.Entity(world.ID(id)); e != nil && v.rules.Sees(e, client) {
			return int64(v.Number(e))
		}
		return 0
	})
}

// Told gives a value as it travels with the last Cut: refs as public numbers, and as nothing where the client does not know the
// entity then.
func (v *View) Told(client int, t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, func(id int64) int64 {
		if n := v.Known(client, world.ID(id)); n != 0 {
			return int64(n)
		}
		return 0
	})
}

// Known gives the number of an entity that a client knows of, or that the last Cut takes from it; else 0.
func (v *View) Known(client int, id world.ID) uint32 {
	u, s := v.viewer(client), v.sent[id]
	if u == nil || s == nil {
		return 0
	}
	if h := u.held[id]; h != nil && h.whole || slices.Contains(u.dropped, id) {
		return s.number
	}
	in := func(list []placed, exited bool) bool {
		return slices.ContainsFunc(list, func(x placed) bool {
			if !x.circle.audience.Lanes[x.lane].Whole {
				return false
			}
			if !x.fresh && slices.Contains(u.left, x.circle) {
				return true
			}
			return slices.ContainsFunc(u.circles, func(m member) bool { return m.circle == x.circle && !(exited && m.fresh) })
		})
	}
	if in(s.at, false) || in(s.exited, true) {
		return s.number
	}
	return 0
}

func byNumber(a, b *sent) int { return cmp.Compare(a.number, b.number) }
