#!/usr/bin/env python3
"""Reads what kamerad.v2 puts on the wire, as docs/protocol.md describes it, and nothing else.

It is an example for those who write a client in another language: frames, a client's messages, and the codings that they are made
of. Run by itself, it reads the test vectors, holds what it comes to against what they say, and tells how much agreed:

    python3 docs/reader.py core/wire/testdata/vectors/*.json
"""
import json
import math
import struct
import sys

PARTS = {"real": 1, "direction": 1, "vec2": 2, "vec3": 3, "rotation": 4}
PLAIN = {"bool", "int", "time", "real", "direction", "vec2", "vec3", "rotation", "enum", "kind"}
MASK = (1 << 64) - 1
OUTCOMES = ["accepted", "denied", "dropped", "malformed", "faulted", "undone"]
STAGES = ["", "bounds", "types", "target", "from", "limit", "check", "body"]


class Bits:
    """A bit field."""

    def __init__(self, raw):
        self.raw, self.at = raw, 0

    def bits(self, n):
        v = 0
        for i in range(n):
            v |= (self.raw[self.at // 8] >> (self.at % 8) & 1) << i
            self.at += 1
        return v

    def gamma(self):
        n = 1
        while not self.bits(1):
            n += 1
        return (1 << (n - 1) | self.bits(n - 1)) - 1

    def below(self, n):
        if n <= 1:
            return 0
        k = n.bit_length() - 1
        short = 2 ** (k + 1) - n
        v = self.bits(k)
        return v if v < short else (v << 1 | self.bits(1)) - short

    def ones(self, most):
        q = 0
        while q < most and self.bits(1):
            q += 1
        return q

    def rice(self, k):
        q = self.ones(20)
        return self.bits(self.bits(7)) if q == 20 else q << k | self.bits(k)

    def text(self):
        return bytes(self.bits(8) for _ in range(self.gamma())).decode()

    def end(self):
        left = len(self.raw) * 8 - self.at
        assert left < 8 and self.bits(left) == 0, "the bit field goes on"


class Bytes:
    """The bytes of a frame, a section or a message."""

    def __init__(self, raw):
        self.raw, self.at = raw, 0

    def take(self, n):
        self.at += n
        assert self.at <= len(self.raw), "the bytes end early"
        return self.raw[self.at - n:self.at]

    def uvarint(self):
        v = shift = 0
        while True:
            byte = self.take(1)[0]
            v |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                return v

    def part(self):
        return self.take(self.uvarint())

    def rest(self):
        return self.take(len(self.raw) - self.at)

    def more(self):
        return self.at < len(self.raw)

    def end(self):
        assert not self.more(), "the bytes go on"


def low(t):
    return int(t.get("low", 0))


def high(t):
    return int(t.get("high", 0))


def names(t):
    return t["kinds"] if t["form"] == "kind" else t["enum"]["values"]


def number(r, t):
    return low(t) + r.bits((high(t) - low(t)).bit_length())


def signed(zigzag):
    return zigzag >> 1 ^ -(zigzag & 1)


def wrapped(n):
    """A number as 64 bits hold it, which wrap around."""
    return (n + 2 ** 63 & MASK) - 2 ** 63


def value(r, t):
    """Reads a whole value: reals as counts, enums by place."""
    form = t["form"]
    if form == "bool":
        return r.bits(1)
    if form in ("int", "time", "real", "direction"):
        return number(r, t)
    if form in PARTS:
        return [number(r, t) for _ in range(PARTS[form])]
    if form in ("enum", "kind"):
        return r.below(len(names(t)))
    if form == "ref":
        return r.bits(32) if r.bits(1) else 0
    if form == "client":
        return r.gamma() - 1
    if form == "instant":
        return signed(r.gamma())
    if form == "text":
        return r.text()
    if form == "record":
        return [value(r, p["type"]) for p in t["fields"]]
    n = r.below(t["max"] + 1)
    if form == "list":
        return [value(r, t["of"]) for _ in range(n)]
    if form == "stacks":
        return [stack(r, t) for _ in range(n)]
    return [[value(r, t["key"]), value(r, t["of"])] for _ in range(n)]


def stack(r, t):
    """Reads an item and its count; a slot may be empty."""
    if t.get("slotted") and not r.bits(1):
        return [0, 0]
    return [r.below(len(names(t))), 1 + r.below(t["each"])]


def which(r, n):
    """Reads which of n slots are meant."""
    count = r.below(n) + 1

    def gaps(count):
        k, last, out = (((n - count) // (count + 1)) * 2 // 3 + 1).bit_length() - 1, -1, []
        for _ in range(count):
            last += r.rice(k) + 1
            out.append(last)
        return out

    if 2 * count <= n:
        return gaps(count)
    rest = gaps(n - count)
    return [i for i in range(n) if i not in rest]


def first_sizes(t):
    """What is taken for the usual size of a column's differences, for each part: a sum and a count."""
    span = 0 if t.get("small") else high(t) - low(t)
    return [[max(2, min(span // 64, 2 ** 30)), 1] for _ in range(PARTS.get(t["form"], 1))]


def shortest(t, by):
    """A difference, of a type that wraps the shorter way around."""
    if t.get("wraps"):
        turn = high(t) - low(t) + 1
        if by > turn // 2:
            by -= turn
        elif by <= -((turn + 1) // 2):
            by += turn
    return by


def brought(t, n):
    """The number in the range of a type that stands for one: the nearest, or of a type that wraps a whole turn away."""
    if t.get("wraps"):
        return low(t) + (n - low(t)) % (high(t) - low(t) + 1)
    return min(max(n, low(t)), high(t))


def difference(r, t, old, sizes):
    """Reads what a value is after it changed."""
    def step(old, least, size):
        k = 0
        while size[1] << k < size[0]:
            k += 1
        q = r.ones(12)
        if q == 12:
            now = number(r, t)
            by = shortest(t, now - old)
            d = (2 * by if by >= 0 else -2 * by - 1) - least
        else:
            d = q << k | r.bits(k)
            now = wrapped(old + signed(d + least))
            if t.get("wraps"):
                now = brought(t, now)
        size[0] += min(d, 2 ** 32)
        size[1] += 1
        if size[1] == 32:
            size[0], size[1] = size[0] // 2, 16
        return now

    if t["form"] == "bool":
        return 1 - old
    if t["form"] in ("enum", "kind"):
        now = r.below(len(names(t)) - 1)
        return now + (now >= old)
    if isinstance(old, list):
        return [step(o, 0, size) for o, size in zip(old, sizes)]
    return step(old, 1, sizes[0])


def real(t, count):
    return count * t.get("unit", 1) / t["per"]


def counted(t, x):
    """The nearest count of steps for a real, in the range of its type."""
    return brought(t, round(x * t["per"] / t.get("unit", 1)))


def moved(t, rate, start, speed, seconds):
    """Where something is that moves, as counts of steps. start and speed are counts as well."""
    def one(a, b):
        return counted(t, real(t, a) + real(rate, b) * seconds)
    return [one(a, b) for a, b in zip(start, speed)] if isinstance(start, list) else one(start, speed)


class Table:
    """A group: its lanes, its slots, and its columns with what was learnt of them."""

    def __init__(self, kinds, lanes, own):
        self.lanes, self.own = lanes, own
        self.slots = [[] for _ in lanes]
        self.columns = [(i, p, kinds[l["kind"]]["properties"][p]) for i, l in enumerate(lanes) for p in l["properties"]]
        self.anew()

    def anew(self):
        self.order = list(range(len(self.columns)))
        self.sizes = [first_sizes(p["type"]) for _, _, p in self.columns]


class Reader:
    """Holds what a client holds. things has, by number, its kind's place, owner, and fields by the property's place."""

    def __init__(self, outline):
        self.outline, self.kinds, self.tick, self.settled = outline, outline["kinds"], 0, 0
        self.things, self.clients, self.tables = {}, {}, {}

    def way(self, kind, p):
        follows = p.get("follows", "")
        if "." in follows:
            return "attached"
        if follows and any(q["name"] == follows and q["type"]["form"] == p["type"]["form"] for q in kind["properties"]):
            return "motion"
        return "whole" if p.get("loose") or p["type"]["form"] not in PLAIN else "difference"

    def read(self, raw):
        """Reads a frame, and returns what it says beside what the reader then holds."""
        c = Bytes(raw)
        head = c.uvarint()
        if head & 1:
            self.tick = self.settled = 0
            self.things, self.clients = {}, {}
            lanes = [{"kind": i, "properties": list(range(len(k["properties"])))} for i, k in enumerate(self.kinds)]
            self.tables = {0: Table(self.kinds, lanes, True)}
        self.tick += c.uvarint()
        said = {"events": [], "decisions": [], "logs": [], "digest": None, "incarnation": None}
        self.leaving = []
        for bit in range(1, head.bit_length()):
            if head >> bit & 1:
                self.section(bit, Bytes(c.part()), said)
        c.end()
        # The frame's events are handled here, before anything leaves.
        for thing, whole, properties in self.leaving:
            thing["whole"] -= whole
            for p in properties:
                thing["held"][p] -= 1
                if not thing["held"][p]:
                    del thing["held"][p], thing["fields"][p]
        self.things = {n: t for n, t in self.things.items() if t["whole"] > 0}
        return said

    def section(self, bit, c, said):
        if bit == 1:
            count = c.uvarint()
            for i in range(count):
                self.block(c, i == count - 1)
        elif bit == 2:
            while c.more():
                said["events"].append(self.event(Bits(c.part())))
        elif bit == 3:
            said["decisions"] = decisions(Bits(c.rest()))
        elif bit == 4:
            said["digest"] = int.from_bytes(c.take(4), "little")
        elif bit == 5:
            self.roster(Bits(c.rest()))
        elif bit == 7:
            while c.more():
                said["logs"].append(c.part().decode())
        elif bit == 8:
            self.settled = self.tick - c.uvarint()
        elif bit == 11:
            said["incarnation"] = {"number": c.uvarint(), "kept": c.uvarint()}
        else:
            return  # of a later version
        c.end()

    def roster(self, r):
        for _ in range(r.gamma()):
            n, role = r.gamma(), r.below(len(self.outline["roles"]))
            self.clients[n] = (role, r.text())
        for _ in range(r.gamma()):
            del self.clients[r.gamma()]
        r.end()

    def event(self, r):
        out, params = {}, None
        if r.bits(1):
            kind = self.kinds[r.below(len(self.kinds))]
            event = kind["events"][r.below(len(kind["events"]))]
            out["event"] = kind["name"] + "." + event["name"]
            if r.bits(1):
                out["entity"] = r.bits(32)
        else:
            event = self.outline["events"][r.below(len(self.outline["events"]))]
            out["event"] = event["name"]
        out["values"] = {p["name"]: plain(p["type"], value(r, p["type"])) for p in event["params"]}
        r.end()
        return out

    def block(self, c, last):
        head = c.uvarint()
        handle, what = head >> 2, head & 3
        if what == 2:
            for slots in self.tables.pop(handle).slots:
                self.leaving += [e for e in slots if e]
            return
        group = c.uvarint() if what == 1 else None
        r = Bits(c.rest() if last else c.part())
        if what == 3:
            return  # of a later version
        if what == 1:
            t = self.tables[handle] = Table(self.kinds, self.outline["groups"][group]["lanes"], False)
            for lane, slots in enumerate(t.slots):
                for _ in range(r.gamma()):
                    slots.append(self.entry(r, t, lane))
        else:
            self.change(r, self.tables[handle])
        r.end()

    def entry(self, r, t, lane):
        n, owner, kind = r.bits(32), r.gamma(), t.lanes[lane]["kind"]
        whole, properties = t.lanes[lane].get("whole", False), t.lanes[lane]["properties"]
        if t.own:
            whole = r.bits(1)
            mask = r.bits(len(properties))
            properties = [p for p in properties if mask >> p & 1]
        thing = self.things.setdefault(n, {"number": n, "kind": kind, "owner": owner, "whole": 0, "held": {}, "fields": {}})
        if whole:
            thing["whole"] += 1
            thing["owner"] = owner
        for p in properties:
            self.hold(r, thing, p)
        return [thing, whole, set(properties)]

    def hold(self, r, thing, p):
        thing["held"][p] = thing["held"].get(p, 0) + 1
        self.field(r, thing, p)

    def field(self, r, thing, p):
        kind = self.kinds[thing["kind"]]
        prop = kind["properties"][p]
        t, way = prop["type"], self.way(kind, prop)
        if way == "motion":
            rate = next(q["type"] for q in kind["properties"] if q["name"] == prop["follows"])
            thing["fields"][p] = ("motion", value(r, t), value(r, rate), self.tick - r.gamma(), t, rate)
        elif way == "attached" and r.bits(1):
            by = [struct.unpack("<d", r.bits(64).to_bytes(8, "little"))[0] for _ in range(PARTS[t["form"]])] if r.bits(1) else None
            thing["fields"][p] = ("attached", prop["follows"], by, value(r, t), t)
        else:
            thing["fields"][p] = ("value", value(r, t), t)

    def change(self, r, t):
        if r.bits(1):
            t.slots = [sorted((e for e in slots if e), key=lambda e: e[0]["number"]) for slots in t.slots]
            t.anew()
        for _ in range(r.gamma()):
            lane = r.below(len(t.lanes))
            e, slots = self.entry(r, t, lane), t.slots[lane]
            if None in slots:
                slots[slots.index(None)] = e
            else:
                slots.append(e)

        def place():
            lane = r.below(len(t.lanes))
            return lane, r.below(len(t.slots[lane]))

        for _ in range(r.gamma()):
            lane, at = place()
            t.slots[lane][at][0]["owner"] = r.gamma()
        gone = [place() for _ in range(r.gamma())]
        self.leaving += [t.slots[lane][at] for lane, at in gone]
        if t.own:
            for _ in range(r.gamma()):
                lane, at = place()
                e = t.slots[lane][at]
                mask = r.bits(len(t.lanes[lane]["properties"]))
                now = {p for p in t.lanes[lane]["properties"] if mask >> p & 1}
                self.leaving.append([e[0], 0, e[2] - now])
                for p in sorted(now - e[2]):
                    self.hold(r, e[0], p)
                e[2] = now
        self.columns(r, t)
        if t.own:
            for _ in range(r.gamma()):
                thing = self.things[r.bits(32)]
                self.field(r, thing, r.below(len(self.kinds[thing["kind"]]["properties"])))
        for lane, at in gone:
            t.slots[lane][at] = None
        for slots in t.slots:
            while slots and slots[-1] is None:
                slots.pop()

    def columns(self, r, t):
        changed, at = [], -1
        for _ in range(r.gamma()):
            at += r.gamma() + 1
            column = t.order[at]
            changed.append(column)
            lane, p, prop = t.columns[column]
            for slot in which(r, len(t.slots[lane])):
                thing = t.slots[lane][slot][0]
                if self.way(self.kinds[thing["kind"]], prop) == "difference":
                    old = thing["fields"][p][1]
                    thing["fields"][p] = ("value", difference(r, prop["type"], old, t.sizes[column]), prop["type"])
                else:
                    self.field(r, thing, p)
        t.order = changed + [c for c in t.order if c not in changed]

    def digest(self):
        total = 0
        for n, (role, name) in self.clients.items():
            total += mixed([1, n, role] + words({"form": "text"}, name))
        for n, thing in self.things.items():
            total += mixed([2, n, thing["kind"], thing["owner"]])
            for p, f in thing["fields"].items():
                if self.kinds[thing["kind"]]["properties"][p].get("loose"):
                    continue
                if f[0] == "value":
                    total += mixed([3, n, p] + words(f[2], f[1]))
                elif f[0] == "motion":
                    total += mixed([4, n, p, f[3]] + words(f[4], f[1]) + words(f[5], f[2]))
                else:
                    total += mixed([5, n, p] + [struct.unpack("<Q", struct.pack("<d", b))[0] for b in f[2] or []])
        return total & 0xFFFFFFFF


def decisions(r):
    out = []
    for _ in range(r.gamma()):
        counts = ["seq", "press", "release", "?"][r.bits(2)]
        d = {counts: r.gamma(), "check": r.gamma() - 1, "outcome": (OUTCOMES + ["unknown"] * 10)[r.bits(4)]}
        stage = (STAGES + [""] * 8)[r.bits(4)]
        reason, reply = r.text(), r.text()
        d.update({k: v for k, v in (("stage", stage), ("reason", reason)) if v})
        if reply:
            d["reply"] = json.loads(reply)
        out.append(d)
    r.end()
    return out


def message(raw, outline):
    """Reads a client's message."""
    if raw[:1] == b"{":
        return json.loads(raw)
    c = Bytes(raw)
    first = c.take(1)[0]
    if first & 128:
        c.part()  # of a later version
    kind_of = {1: "ready", 2: "seen", 3: "leave", 4: "differs", 5: "ask", 6: "write", 7: "press", 8: "release", 9: "log"}[first & 31]
    out = {"type": kind_of}
    if kind_of in ("ready", "leave"):
        c.end()
        return out
    if kind_of in ("seen", "differs"):
        out["seen"] = c.uvarint()
        c.end()
        return out
    if kind_of == "log":
        out["seen"] = c.uvarint()
        out["text"] = c.rest().decode("utf-8")
        return out
    out["seq" if kind_of in ("ask", "write") else "press"] = c.uvarint()
    seen, entity, kind, at = c.uvarint(), c.uvarint(), outline["kinds"][c.uvarint()], c.uvarint()
    drawn = signed(c.uvarint()) if first & 64 else 0
    out.update({k: v for k, v in (("seen", seen), ("entity", entity), ("drawn", drawn)) if v})
    r = Bits(c.rest())
    if kind_of == "ask":
        request = kind["requests"][at]
        out["request"] = kind["name"] + "." + request["name"]
        out["args"] = [plain(p["type"], value(r, p["type"])) for p in request["params"]]
    else:
        prop = kind["properties"][at]
        out["property"] = kind["name"] + "." + prop["name"]
        if kind_of == "write":
            out["value"] = plain(prop["type"], value(r, prop["type"]))
    r.end()
    return out


def mixed(list_of_words):
    h = 0xCBF29CE484222325
    for w in list_of_words:
        h = (h ^ w & MASK) * 0x100000001B3 & MASK
    h = h + 0x9E3779B97F4A7C15 & MASK
    h = (h ^ h >> 30) * 0xBF58476D1CE4E5B9 & MASK
    h = (h ^ h >> 27) * 0x94D049BB133111EB & MASK
    return h ^ h >> 31


def words(t, v):
    form = t["form"]
    if form == "text":
        raw = v.encode()
        return [len(raw), *raw]
    if form == "record":
        return [w for p, x in zip(t["fields"], v) for w in words(p["type"], x)]
    if form == "list":
        return [len(v)] + [w for x in v for w in words(t["of"], x)]
    if form == "stacks":
        return [len(v)] + [w for pair in v for w in pair]
    if form == "map":
        return [len(v)] + [w for key, x in v for w in words(t["of"], x) + words(t["key"], key)]
    return v if isinstance(v, list) else [v]


def plain(t, v):
    """Words a value as the JSON form does."""
    form = t["form"]
    if form == "bool":
        return bool(v)
    if form in PARTS:
        return [real(t, x) for x in v] if isinstance(v, list) else real(t, v)
    if form in ("enum", "kind"):
        return names(t)[v]
    if form == "ref":
        return v or None
    if form == "client":
        return None if v == -1 else v
    if form == "record":
        return {p["name"]: plain(p["type"], x) for p, x in zip(t["fields"], v)}
    if form == "list":
        return [plain(t["of"], x) for x in v]
    if form == "stacks":
        return [[names(t)[item], n] if n else None for item, n in v]
    if form == "map":
        return [[plain(t["key"], key), plain(t["of"], x)] for key, x in v]
    if form in ("int", "time", "instant") and abs(v) > 2 ** 53 - 1:
        return str(v)
    return v


def held(reader):
    """Words all that a reader holds."""
    out = {}
    for n, thing in reader.things.items():
        kind, values = reader.kinds[thing["kind"]], {}
        for p, f in thing["fields"].items():
            name = kind["properties"][p]["name"]
            if f[0] == "value":
                values[name] = plain(f[2], f[1])
            elif f[0] == "motion":
                values[name] = {"from": plain(f[4], f[1]), "rate": plain(f[5], f[2]), "at": f[3]}
            else:
                values[name] = {"attached": f[1], "is": plain(f[4], f[3]), **({"by": f[2]} if f[2] else {})}
        out[n] = [kind["name"], thing["owner"], values]
    clients = {n: (reader.outline["roles"][role], name) for n, (role, name) in reader.clients.items()}
    return out, clients


def told(things, clients, frame):
    """Applies a JSON frame to a copy."""
    if frame.get("snapshot"):
        things.clear()
        clients.clear()
    for b in frame.get("state", []):
        for j in b.get("joined", []):
            clients[j["number"]] = (j["role"], j["name"])
        for s in b.get("spawned", []):
            things[s["entity"]] = [s["kind"], s["owner"], dict(s["values"])]
        for o in b.get("owned", []):
            things[o["entity"]][1] = o["owner"]
        for u in b.get("values", []):
            for name in u.get("withdrawn", []):
                del things[u["entity"]][2][name]
            things[u["entity"]][2].update(u["values"])
        for n in b.get("gone", []):
            del things[n]
        for n in b.get("left", []):
            del clients[n]


def check_frames(vector, tell):
    reader, things, clients = Reader(vector["outline"]), {}, {}
    for i, frame in enumerate(vector.get("frames", [])):
        said, says = reader.read(bytes.fromhex(frame["hex"])), frame["says"]
        told(things, clients, says)
        assert held(reader) == (things, clients), f"frame {i}: it holds something else"
        assert reader.tick == says["tick"] and reader.settled == says.get("settled", 0), f"frame {i}: another tick"
        assert said["incarnation"] == says.get("incarnation"), f"frame {i}: another incarnation"
        for name in ("events", "decisions", "logs"):
            assert said[name] == says.get(name, []), f"frame {i}: other {name}: {said[name]}"
        if said["digest"] is not None:
            assert reader.digest() == said["digest"] == says["digest"], f"frame {i}: another digest"
            tell["digests"] += 1
        tell["frames"] += 1
    for m in vector.get("messages", []):
        got = message(bytes.fromhex(m["hex"]), vector["outline"])
        assert got == m["says"], f"message {m['hex']}: it says {got}"
        tell["messages"] += 1


def check_codings(vector, tell):
    for n in vector.get("numbers", []):
        raw, of = bytes.fromhex(n["hex"]), n.get("of", 0)
        r = Bytes(raw) if n["way"] == "uvarint" else Bits(raw)
        got = r.uvarint() if n["way"] == "uvarint" else getattr(r, n["way"])(*([of] if n["way"] != "gamma" else []))
        r.end()
        assert got == int(n["value"]), f"{n}: it is read as {got}"
        tell["numbers"] += 1
    for v in vector.get("values", []):
        r = Bits(bytes.fromhex(v["hex"]))
        got = value(r, v["type"])
        r.end()
        assert plain(v["type"], got) == v["value"], f"{v}: it is read as {got}"
        assert f"{mixed([3, 7, 1] + words(v['type'], got)):016x}" == v["digest"], f"{v}: another digest"
        tell["values"] += 1
    for v in vector.get("differences", []):
        r, t, sizes = Bits(bytes.fromhex(v["hex"])), v["type"], first_sizes(v["type"])
        now = value(r, t)
        for want in v["then"]:
            now = difference(r, t, now, sizes)
            assert plain(t, now) == want, f"{v}: {now} in place of {want}"
            tell["differences"] += 1
        r.end()
    for v in vector.get("places", []):
        r = Bits(bytes.fromhex(v["hex"]))
        got = which(r, v["of"])
        r.end()
        assert got == v["places"], f"{v}: it is read as {got}"
        tell["places"] += 1
    for v in vector.get("motions", []):
        for tick, want in v["then"]:
            got = moved(v["type"], v["rate_type"], v["from"], v["rate"], (tick - v["at"]) / v["ticks"])
            assert plain(v["type"], got) == want, f"{v} at {tick}: {got}"
            tell["samples of motions"] += 1


# Along walls: places and vectors are pairs of doubles, a wall is its two ends and how much wider than a line it is.


def minus(p, q):
    return (p[0] - q[0], p[1] - q[1])


def plus(p, t, v):
    return (p[0] + t * v[0], p[1] + t * v[1])


def dot(p, q):
    return p[0] * q[0] + p[1] * q[1]


def core(wall, p):
    """The place on the line of a wall that is nearest to p."""
    a, b, _ = wall
    d = minus(b, a)
    square = dot(d, d)
    if square == 0:
        return a
    return plus(a, min(max(dot(minus(p, a), d) / square, 0), 1), d)


def meets_circle(center, p, by, radius):
    start = minus(p, center)
    a, b = dot(by, by), dot(start, by)
    if a == 0 or b >= 0:
        return 2
    under = b * b - a * (dot(start, start) - radius * radius)
    return max((-b - math.sqrt(under)) / a, 0) if under >= 0 else 2


def meets(wall, p, by, radius):
    """At which part of its way something meets a wall: more than 1 when it does not."""
    a, b, wide = wall
    reach = radius + wide
    away = minus(p, core(wall, p))
    distance = math.sqrt(dot(away, away))
    if distance <= reach:
        return 0 if distance > 0 and dot(away, by) < -1e-9 * distance * math.sqrt(dot(by, by)) else 2
    t = min(meets_circle(a, p, by, reach), meets_circle(b, p, by, reach))
    d = minus(b, a)
    length = math.sqrt(dot(d, d))
    if length == 0:
        return t
    across = (-d[1] / length, d[0] / length)
    height, fall = dot(minus(p, a), across), dot(by, across)
    if height < 0:
        height, fall = -height, -fall
    if fall < 0:
        at = max((height - reach) / -fall, 0)
        if 0 <= dot(minus(plus(p, at, by), a), d) <= length * length:
            t = min(t, at)
    return t


def first(p, by, walls, radius, but):
    best, met = 2, None
    for wall in walls:
        t = meets(wall, p, by, radius) if wall is not but else 2
        if t < best and t <= 1:
            best, met = t, wall
    return best, met


def along_walls(start, to, walls, radius):
    radius, p = max(radius, 0.001), start
    deepest, inside, out = 0, None, None
    for wall in walls:
        away = minus(p, core(wall, p))
        distance = math.sqrt(dot(away, away))
        depth = radius + wall[2] - distance
        if depth > deepest and distance > 0:
            deepest, inside, out = depth, wall, (depth / distance * away[0], depth / distance * away[1])
    if inside:
        p = plus(p, min(first(p, out, walls, radius, inside)[0], 1), out)
    whole, rest = minus(to, start), minus(to, p)
    for _ in range(5):
        if rest == (0, 0):
            break
        t, wall = first(p, rest, walls, radius, None)
        p = plus(p, min(t, 1), rest)
        if not wall:
            break
        rest = ((1 - t) * rest[0], (1 - t) * rest[1])
        normal = minus(p, core(wall, p))
        square = dot(normal, normal)
        if square > 0:
            rest = plus(rest, -dot(normal, rest) / square, normal)
        if dot(rest, whole) <= 0:
            break
    return p


def check_moves(vector, tell):
    for v in vector.get("moves", []):
        walls = [(tuple(a), tuple(b), wide) for a, b, wide in v["walls"]]
        got = along_walls(tuple(v["from"]), tuple(v["to"]), walls, v["radius"])
        assert got == tuple(v["comes_to"]), f"{v}: it comes to {got}"
        tell["moves along walls"] += 1


# What is sown: the numbers of the public sequence of a seed.

def finalize(v):
    v = (v ^ v >> 30) * 0xBF58476D1CE4E5B9 & MASK
    v = (v ^ v >> 27) * 0x94D049BB133111EB & MASK
    return v ^ v >> 31


def sown(seed, place, low, high):
    v = finalize(finalize(seed & MASK) + (place + 1) * 0x9E3779B97F4A7C15 & MASK)
    return low + (v * (high - low + 1) >> 64)


def check_sown(vector, tell):
    for v in vector.get("sown", []):
        got = sown(v["seed"], v["place"], v["low"], v["high"])
        assert got == v["is"], f"{v}: it is {got}"
        tell["numbers sown"] += 1
    if "layouts" in vector:
        all_of, total = vector["layouts"], 0
        for seed in range(all_of["seeds"]):
            for place in range(all_of["places"]):
                total = total * 1099511628211 + sown(seed, place, all_of["low"], all_of["high"]) & MASK
        assert str(total) == all_of["sum"], f"{all_of}: the sum is {total}"
        tell["layouts"] += all_of["seeds"]


def main(files):
    tell = dict.fromkeys(("frames", "digests", "messages", "numbers", "values", "differences", "places",
                          "samples of motions", "moves along walls", "numbers sown", "layouts"), 0)
    for file in files:
        with open(file, encoding="utf-8") as f:
            vector = json.load(f)
        try:
            if "outline" in vector:
                check_frames(vector, tell)
            check_codings(vector, tell)
            check_moves(vector, tell)
            check_sown(vector, tell)
        except Exception as problem:
            sys.exit(f"{file}: {problem!r}")
    print(", ".join(f"{n} {what}" for what, n in tell.items()) + " agree")


if __name__ == "__main__":
    main(sys.argv[1:])
