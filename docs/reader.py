#!/usr/bin/env python3
"""Reads the binary frames of kamerad.v1, as docs/protocol.md describes them, and nothing else.

It is an example for those who write a client in another language. Run by itself, it reads the test vectors, holds what it comes
to against what they say, and tells how many frames and digests agreed:

    python3 docs/reader.py core/wire/testdata/vectors/*.json
"""
import json
import struct
import sys

PARTS = {"real": 1, "direction": 1, "vec2": 2, "vec3": 3, "rotation": 4}
PLAIN = {"bool", "int", "real", "direction", "vec2", "vec3", "rotation", "enum", "kind"}
MASK = (1 << 64) - 1


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
    """The bytes of a frame."""

    def __init__(self, raw):
        self.raw, self.at = raw, 0

    def take(self, n):
        self.at += n
        assert self.at <= len(self.raw), "the frame ends early"
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
        return Bits(self.take(self.uvarint()))


def low(t):
    return t.get("low", 0)


def span(t):
    return t.get("high", 0) - low(t)


def names(t):
    return t["kinds"] if t["form"] == "kind" else t["enum"]["values"]


def number(r, t):
    return low(t) + r.bits(span(t).bit_length())


def value(r, t):
    """Reads a whole value: reals as counts, enums by place."""
    form = t["form"]
    if form == "bool":
        return r.bits(1)
    if form in ("int", "real", "direction"):
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
        v = r.gamma()
        return v >> 1 ^ -(v & 1)
    if form == "text":
        return r.text()
    if form == "record":
        return [value(r, p["type"]) for p in t["fields"]]
    n = r.below(t["max"] + 1)
    if form == "list":
        return [value(r, t["of"]) for _ in range(n)]
    if form == "stacks":
        return [[r.below(len(names(t))), 1 + r.below(t["each"])] for _ in range(n)]
    return [[value(r, t["key"]), value(r, t["of"])] for _ in range(n)]


class Table:
    """A group: its lanes, its slots, and its columns with what was learnt of them."""

    def __init__(self, kinds, lanes, own):
        self.lanes, self.own = lanes, own
        self.slots = [[] for _ in lanes]
        self.columns = [(i, p, kinds[l["kind"]]["properties"][p]) for i, l in enumerate(lanes) for p in l["properties"]]
        self.anew()

    def anew(self):
        self.order = list(range(len(self.columns)))
        self.sizes = [[[max(2, min(span(p["type"]) // 64, 2 ** 30)), 1] for _ in range(PARTS.get(p["type"]["form"], 1))] for _, _, p in self.columns]


class Reader:
    """Holds what a client holds. things has, by number, its kind's place, owner, and fields by the property's place."""

    def __init__(self, outline):
        self.outline, self.kinds, self.tick = outline, outline["kinds"], 0
        self.things, self.clients, self.tables = {}, {}, {}

    def way(self, kind, p):
        follows = p.get("follows", "")
        if "." in follows:
            return "attached"
        if follows and any(q["name"] == follows and q["type"]["form"] == p["type"]["form"] for q in kind["properties"]):
            return "motion"
        return "whole" if p.get("loose") or p["type"]["form"] not in PLAIN else "difference"

    def read(self, raw):
        c = Bytes(raw)
        flags = c.take(1)[0]
        if flags & 1:
            self.tick, self.things, self.clients = 0, {}, {}
            lanes = [{"kind": i, "properties": list(range(len(k["properties"])))} for i, k in enumerate(self.kinds)]
            self.tables = {0: Table(self.kinds, lanes, True)}
        self.tick += c.uvarint()
        if flags & 2:
            c.uvarint()  # how far back the settled tick lies
        digest = int.from_bytes(c.take(4), "little") if flags & 4 else None
        if flags & 8:
            self.roster(c.part())
        self.leaving = []
        for _ in range(c.uvarint()):
            self.block(c)
        for thing, whole, properties in self.leaving:
            thing["whole"] -= whole
            for p in properties:
                thing["held"][p] -= 1
                if not thing["held"][p]:
                    del thing["held"][p], thing["fields"][p]
        self.things = {n: t for n, t in self.things.items() if t["whole"] > 0}
        # Here would come the events, decisions and lines of the log; events before anything leaves.
        return digest

    def roster(self, r):
        for _ in range(r.gamma()):
            n, role = r.gamma(), r.below(len(self.outline["roles"]))
            self.clients[n] = (role, r.text())
        for _ in range(r.gamma()):
            del self.clients[r.gamma()]
        r.end()

    def block(self, c):
        head = c.uvarint()
        handle, what = head >> 2, head & 3
        if what == 2:
            for slots in self.tables.pop(handle).slots:
                self.leaving += [e for e in slots if e]
            return
        if what == 1:
            t = self.tables[handle] = Table(self.kinds, self.outline["groups"][c.uvarint()]["lanes"], False)
            r = c.part()
            for lane, slots in enumerate(t.slots):
                for _ in range(r.gamma()):
                    slots.append(self.entry(r, t, lane))
        else:
            r = c.part()
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


def which(r, n):
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


def difference(r, t, old, sizes):
    def step(old, least, size):
        k = 0
        while size[1] << k < size[0]:
            k += 1
        q = r.ones(12)
        if q == 12:
            now = number(r, t)
            d = (2 * (now - old) if now >= old else 2 * (old - now) - 1) - least
        else:
            d = q << k | r.bits(k)
            zigzag = d + least
            now = old + (zigzag // 2 if zigzag % 2 == 0 else -(zigzag + 1) // 2)
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
    """Words a value as the JSON frames do."""
    form = t["form"]
    if form == "bool":
        return bool(v)
    if form in PARTS:
        reals = [x * t.get("unit", 1) / t["per"] for x in (v if isinstance(v, list) else [v])]
        return reals if isinstance(v, list) else reals[0]
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
        return [[names(t)[item], n] for item, n in v]
    if form == "map":
        return [[plain(t["key"], key), plain(t["of"], x)] for key, x in v]
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
    return out


def told(copy, frame):
    """Applies a JSON frame to a copy."""
    if frame.get("snapshot"):
        copy.clear()
    for b in frame.get("state", []):
        for s in b.get("spawned", []):
            copy[s["entity"]] = [s["kind"], s["owner"], dict(s["values"])]
        for o in b.get("owned", []):
            copy[o["entity"]][1] = o["owner"]
        for u in b.get("values", []):
            for name in u.get("withdrawn", []):
                del copy[u["entity"]][2][name]
            copy[u["entity"]][2].update(u["values"])
        for n in b.get("gone", []):
            del copy[n]


def main(files):
    frames = digests = 0
    for file in files:
        with open(file, encoding="utf-8") as f:
            vector = json.load(f)
        reader, copy = Reader(vector["outline"]), {}
        for i, frame in enumerate(vector["frames"]):
            digest = reader.read(bytes.fromhex(frame["hex"]))
            told(copy, frame["says"])
            assert held(reader) == copy, f"{file}, frame {i}: it says something else"
            if digest is not None:
                assert reader.digest() == digest == frame["says"]["digest"], f"{file}, frame {i}: another digest"
                digests += 1
            frames += 1
    print(f"{frames} frames and {digests} digests agree")


if __name__ == "__main__":
    main(sys.argv[1:])
