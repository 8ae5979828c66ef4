package contract

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Outline is what clients are given of a contract: names, types, ranges, reasons, and the checks that a client can
// evaluate itself, and public constants; never bodies, other constants, defaults or what only the server has.
type Outline struct {
	Contract string         `json:"contract"`
	Tick     int            `json:"tick"` // ticks per second
	Seats    int            `json:"seats"`
	Roles    []string       `json:"roles"`
	Kinds    []KindOutline  `json:"kinds"`
	Events   []EventOutline `json:"events"`
	Groups   []GroupOutline `json:"groups"`

	// what is public: constants with their values, and settings, whose values come with a client's seat
	Constants []ConstantOutline `json:"constants,omitempty"`
	Settings  []SettingOutline  `json:"settings,omitempty"`

	// Ranges are the audiences that ask how near a client's own entity is, of a full outline alone.
	Ranges []RangeOutline `json:"ranges,omitempty"`
	// Walls are the constants that list lines on the plane and are not public, of a full outline alone.
	Walls []ConstantOutline `json:"walls,omitempty"`
}

// RangeOutline says how near a client has to be for an audience: the property of its own entity of the kind is at most
// Radius from a place.
type RangeOutline struct {
	Audience string  `json:"audience"`
	Kind     string  `json:"kind"`
	Property string  `json:"property"`
	Radius   float64 `json:"radius"`
}

// ConstantOutline is a public constant; its value is in the JSON form of its type.
type ConstantOutline struct {
	Name  string          `json:"name"`
	Type  *Type           `json:"type"`
	Value json.RawMessage `json:"value"`
}

// SettingOutline is a public setting.
type SettingOutline struct {
	Name string `json:"name"`
	Type *Type  `json:"type"`
}

// GroupOutline says what those who are in one audience have in common: what binary frames write once for all of them.
type GroupOutline struct {
	To    string        `json:"to"`
	Lanes []LaneOutline `json:"lanes"`
}

// LaneOutline says what of the entities of a kind a group carries: Properties, by their places in the kind's outline,
// and with Whole that they are there at all. Kind is its place in the outline.
type LaneOutline struct {
	Kind       int   `json:"kind"`
	Whole      bool  `json:"whole,omitempty"`
	Properties []int `json:"properties"`
}

// KindOutline describes a kind.
type KindOutline struct {
	Name       string            `json:"name"`
	Per        string            `json:"per,omitempty"` // role; empty for shared
	Shared     bool              `json:"shared,omitempty"`
	Parts      []string          `json:"parts,omitempty"`
	To         string            `json:"to"`
	Properties []PropertyOutline `json:"properties"`
	Requests   []RequestOutline  `json:"requests"`
	Events     []EventOutline    `json:"events"`
}

// PropertyOutline describes a property.
type PropertyOutline struct {
	Name string `json:"name"`
	Type *Type  `json:"type"`
	To   string `json:"to"`
	Clauses
	SetBy string `json:"set_by,omitempty"` // owner or client: who writes it
	// the property that holds its rate, or `carrier.pos` when it is attached to that
	Follows string `json:"follows,omitempty"`
	LeaseMs int64  `json:"lease_ms,omitempty"` // of a hold
}

// RequestOutline describes a request. Known are its checks as written, in the order of the reasons, for those that a
// client can evaluate itself: all that they read it can see, and they name no constant but those that IsKnown. The
// others are empty. Checks stand only in a full outline.
type RequestOutline struct {
	Name    string   `json:"name"`
	Params  []Param  `json:"params"`
	From    string   `json:"from"`
	Reply   *Type    `json:"reply,omitempty"`
	Limit   int      `json:"limit,omitempty"`
	LimitMs int64    `json:"limit_ms,omitempty"`
	PauseMs int64    `json:"pause_ms,omitempty"`
	Reasons []string `json:"reasons"`
	Known   []string `json:"known"`
	Checks  []Check  `json:"checks,omitempty"`
	Line    int      `json:"line,omitempty"`
}

// EventOutline describes an event.
type EventOutline struct {
	Name   string  `json:"name"`
	Params []Param `json:"params"`
	Loose  bool    `json:"loose,omitempty"`
}

// IsKnown reports whether a constant of a name stands in the outline so that clients compute with it: it is public, and
// a truth, a number, a value of an enum or a vector.
func (c *Contract) IsKnown(constant string) bool {
	return slices.ContainsFunc(c.Public, func(p *Public) bool { return p.Name == constant && p.Type.HasLiterals() })
}

// HasLiterals reports whether Literal writes values of the type: not texts, records and lists, and what refers to
// something.
func (t *Type) HasLiterals() bool {
	switch t.Form {
	case FormBool, FormInt, FormTime, FormReal, FormEnum, FormVec2, FormVec3:
		return true
	}
	return false
}

// Literal returns a value of a type that HasLiterals as a contract writes it.
func (t *Type) Literal(v Value) string {
	switch t.Form {
	case FormBool:
		return strconv.FormatBool(v.Num != 0)
	case FormTime:
		return TimeText(v.Num)
	case FormReal:
		return t.Decimal(v.Num)
	case FormEnum:
		return t.Enum.Name + "." + t.Enum.Values[v.Num]
	case FormVec2, FormVec3:
		var parts []string
		for _, p := range v.Parts {
			parts = append(parts, t.Decimal(p.Num))
		}
		return "vec(" + strings.Join(parts, ", ") + ")"
	}
	return strconv.FormatInt(v.Num, 10)
}

// ByTicket reports whether a role can be had only by a ticket that names it. An empty role is the first one.
func (c *Contract) ByTicket(role string) bool {
	i := slices.Index(c.Roles, role)
	if role == "" {
		i = 0
	}
	return i >= 0 && c.TicketRoles&(1<<i) != 0
}

// AccessOf says in words how a role, by its index, can be had.
func (c *Contract) AccessOf(role int) string {
	if c.TicketRoles&(1<<role) != 0 {
		return "by ticket"
	}
	return "anyone"
}

// GivesRoles reports whether a body of the contract may give a client another role.
func (c *Contract) GivesRoles() bool { return c.RolesChange }

// Outline returns what clients may know of the contract.
func (c *Contract) Outline() *Outline { return c.outline(false) }

// FullOutline adds what only the server has: properties to nobody, and the text of the checks. It is for those who run
// the session, never for clients.
func (c *Contract) FullOutline() *Outline { return c.outline(true) }

// outline returns the outline. A full one is for those who run a session: it has what no client gets, and the checks as
// they are written.
func (c *Contract) outline(full bool) *Outline {
	o := &Outline{
		Contract: c.Name,
		Tick:     c.TickRate,
		Seats:    c.Seats,
		Roles:    c.Roles,
		Kinds:    []KindOutline{},
		Events:   []EventOutline{},
	}
	for _, k := range c.Kinds {
		if !full && !k.Visible() {
			continue
		}
		ko := KindOutline{
			Name:       k.Name,
			Shared:     k.Shared,
			To:         c.ToText(k.To, k.Who),
			Properties: []PropertyOutline{},
			Requests:   []RequestOutline{},
			Events:     []EventOutline{},
		}
		if k.Per >= 0 {
			ko.Per = c.Roles[k.Per]
		}
		ko.Parts = k.Parts
		for _, p := range k.Properties {
			if full || p.To != Nobody {
				ko.Properties = append(ko.Properties, c.property(p))
			}
		}
		for _, r := range k.Requests {
			ko.Requests = append(ko.Requests, c.request(r, full))
		}
		for _, e := range k.Events {
			ko.Events = append(ko.Events, e.outline())
		}
		o.Kinds = append(o.Kinds, ko)
	}
	for _, e := range c.Events {
		if e.Kind == nil {
			o.Events = append(o.Events, e.outline())
		}
	}
	o.Groups = c.groups(o)
	o.Constants = c.constants(c.Public)
	if full {
		o.Ranges = c.ranges()
		o.Walls = c.constants(c.Walls)
	}
	for _, s := range c.Settings {
		if s.Public {
			o.Settings = append(o.Settings, SettingOutline{s.Name, s.Type})
		}
	}
	return o
}

// constants returns constants as an outline has them.
func (c *Contract) constants(list []*Public) (out []ConstantOutline) {
	text := func(n int64) string { return c.Texts[n] }
	for _, p := range list {
		value := p.Type.AppendJSON(nil, p.Type.FromSlots(p.Slots, text))
		out = append(out, ConstantOutline{p.Name, p.Type, value})
	}
	return out
}

// ranges returns the audiences that ask how near a property of the viewer's own entity is, by a radius that is a
// constant.
func (c *Contract) ranges() (out []RangeOutline) {
	for _, a := range c.Audiences {
		s := a.Split()
		if s == nil || s.Radius == nil || s.Radius.Value.Op != OpConst {
			continue
		}
		at := s.At[0].Value
		for len(at.Args) == 1 && (at.Op == OpReal || at.Op == OpFromInt) {
			at = at.Args[0]
		}
		if at.Op != OpGet || at.Prop == nil || at.Args[0].Op != OpEntityOf {
			continue
		}
		out = append(out, RangeOutline{
			Audience: a.Name,
			Kind:     at.Args[0].Kind.Name,
			Property: at.Prop.Name,
			Radius:   math.Float64frombits(uint64(s.Radius.Value.Num)),
		})
	}
	return out
}

// request returns the outline of a request. A client is told the reasons of all checks, and the text of those alone
// that its copy can compute.
func (c *Contract) request(r *Request, full bool) RequestOutline {
	out := RequestOutline{
		Name:    r.Name,
		Params:  r.Params,
		Reply:   r.Reply,
		From:    c.WhoText(r.From),
		Reasons: []string{},
		Known:   []string{},
	}
	if out.Params == nil {
		out.Params = []Param{}
	}
	for _, check := range r.Checks {
		out.Reasons = append(out.Reasons, check.Reason)
		if check.Known {
			out.Known = append(out.Known, check.Text)
		} else {
			out.Known = append(out.Known, "")
		}
	}
	if r.Limit != nil {
		out.Limit = r.Limit.Count
		out.LimitMs = r.Limit.Ms
	}
	if r.Pause != nil {
		out.PauseMs = r.Pause.Ms
	}
	if full {
		out.Checks = r.Checks
		out.Line = r.Line
	}
	return out
}

// groups describes the groups by places in the outline.
func (c *Contract) groups(o *Outline) []GroupOutline {
	out := []GroupOutline{}
	for _, g := range c.Grouping().Groups {
		group := GroupOutline{To: g.to, Lanes: []LaneOutline{}}
		for _, l := range g.Lanes {
			lane := LaneOutline{Kind: o.Place(l.Kind.Name), Whole: l.Whole, Properties: []int{}}
			for _, p := range l.Properties {
				lane.Properties = append(lane.Properties, o.Kinds[lane.Kind].Place(p.Name))
			}
			group.Lanes = append(group.Lanes, lane)
		}
		out = append(out, group)
	}
	return out
}

// Place finds a kind by its name, -1 for none.
func (o *Outline) Place(kind string) int {
	return slices.IndexFunc(o.Kinds, func(k KindOutline) bool { return k.Name == kind })
}

// Place finds a property by its name, -1 for none.
func (k *KindOutline) Place(property string) int {
	return slices.IndexFunc(k.Properties, func(p PropertyOutline) bool { return p.Name == property })
}

// outline returns what clients are given of the event.
func (e *Event) outline() EventOutline {
	params := e.Params
	if params == nil {
		params = []Param{}
	}
	return EventOutline{e.Name, params, e.Loose}
}

// property returns what clients are given of a property.
func (c *Contract) property(p *Property) PropertyOutline {
	out := PropertyOutline{
		Name:    p.Name,
		Type:    p.Type,
		To:      c.ToText(p.To, p.Who),
		Clauses: p.Clauses,
	}
	if p.Set != nil {
		out.SetBy = p.Set.who()
	}
	if f := p.Follows; p.Moves() {
		out.Follows = f.Rate.Name
	} else if p.Attaches() {
		out.Follows = f.Holder.Name + "." + f.To[f.Holder.Type.Kinds[0].Index].Name
	}
	if p.Hold != nil {
		out.LeaseMs = p.Hold.Ms
	}
	return out
}

// ToText returns who gets a property or kind, as a contract would say it.
func (c *Contract) ToText(to Audience, who []Who) string {
	if to == Some && who != nil {
		return c.WhoText(who)
	}
	return to.String()
}

// WhoText returns a list of clients as a contract would write it.
func (c *Contract) WhoText(who []Who) string {
	var b strings.Builder
	for i, w := range who {
		if w.But {
			b.WriteString(" but ")
		} else if i > 0 {
			b.WriteString(" or ")
		}
		switch w.Sort {
		case ToRole:
			b.WriteString(c.Roles[w.Role])
		case ToClient:
			b.WriteString("one client")
		case ToNamed:
			b.WriteString(w.Aud.Name)
		default:
			b.WriteString([...]string{"everyone", "nobody", "owner", "caller"}[w.Sort])
		}
	}
	return b.String()
}

// Fingerprint names an outline: two contracts with the same fingerprint look the same to every client. It is the first
// 16 hexadecimal digits of the SHA-256 of the outline's JSON.
func (o *Outline) Fingerprint() string {
	raw, _ := json.Marshal(o) // plain data always marshals
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:8])
}

// Kind returns the kind of a name, or nil.
func (o *Outline) Kind(name string) *KindOutline {
	for i := range o.Kinds {
		if o.Kinds[i].Name == name {
			return &o.Kinds[i]
		}
	}
	return nil
}

// Property returns the property of a name, or nil.
func (k *KindOutline) Property(name string) *PropertyOutline {
	for i := range k.Properties {
		if k.Properties[i].Name == name {
			return &k.Properties[i]
		}
	}
	return nil
}

// Request returns the request of a name, or nil.
func (k *KindOutline) Request(name string) *RequestOutline {
	for i := range k.Requests {
		if k.Requests[i].Name == name {
			return &k.Requests[i]
		}
	}
	return nil
}

// RequestPlace finds a request by its name, -1 for none.
func (k *KindOutline) RequestPlace(request string) int {
	return slices.IndexFunc(k.Requests, func(r RequestOutline) bool { return r.Name == request })
}

// Differences names what differs between what a client was made for and what another outline says: all that is missing
// there, new, or of another type. It is empty when a client of one fits the other.
func (o *Outline) Differences(other *Outline) (out []string) {
	mine := o.names()
	theirs := other.names()
	for name, what := range mine {
		if now, there := theirs[name]; !there {
			out = append(out, name+" is gone")
		} else if now != what {
			out = append(out, name+" is another")
		}
	}
	for name := range theirs {
		if _, known := mine[name]; !known {
			out = append(out, name+" is new")
		}
	}
	slices.Sort(out)
	return out
}

// names returns all that an outline has as JSON, by name, to compare two outlines.
func (o *Outline) names() map[string]string {
	word := func(v any) string {
		raw, _ := json.Marshal(v) // plain data always marshals
		return string(raw)
	}
	out := map[string]string{
		"the ticks a second": word(o.Tick),
		"the roles":          word(o.Roles),
		"the groups":         word(o.Groups),
	}
	for _, k := range o.Kinds {
		out[k.Name] = word([]any{k.Per, k.Shared, k.To, k.Parts})
		for _, p := range k.Properties {
			out[k.Name+"."+p.Name] = word(p)
		}
		for _, r := range k.Requests {
			out[k.Name+"."+r.Name] = word(r)
		}
		for _, e := range k.Events {
			out[k.Name+"."+e.Name] = word(e)
		}
	}
	for _, e := range o.Events {
		out[e.Name] = word(e)
	}
	for _, c := range o.Constants {
		out["the constant "+c.Name] = word(c)
	}
	for _, s := range o.Settings {
		out["the setting "+s.Name] = word(s)
	}
	return out
}
