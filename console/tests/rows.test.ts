// Which rows the sheet has, where copies stand apart, and where values with parts differ.

import { expect, test } from "vitest";
import { count, recheck, truthOf, type Apart } from "../src/session/apart";
import { apply, emptyCopy, nothingTouched, standingOf, standingOfOwner, type Copy } from "../src/session/copy";
import { differencesOf, itemsOf } from "../src/session/items";
import { paramsOf, rowsOf, viewOf, type View } from "../src/session/rows";
import { fresh, type State } from "../src/session/watch";
import type { Frame, Type } from "../src/shared/api";
import { take, wreck, type Inline } from "./wreck";

const int: Type = { form: "int", low: 0, high: 100 };
const outline = wreck([
  {
    name: "Diver",
    per: "player",
    to: "everyone",
    properties: [
      { name: "hull", type: int, to: "everyone" },
      { name: "air", type: int, to: "owner" },
      { name: "plan", type: int, to: "mates(self)" },
      { name: "finds", type: int, to: "nobody" },
      { name: "pos", type: { form: "vec2", low: -900, high: 900, per: 1, unit: 1 }, to: "everyone" },
    ],
    requests: [],
    events: [],
  },
  {
    name: "Eel",
    to: "everyone",
    properties: [
      { name: "hull", type: int, to: "everyone" },
      { name: "pos", type: { form: "vec2", low: -900, high: 900, per: 1, unit: 1 }, to: "everyone" },
    ],
    requests: [],
    events: [],
  },
  {
    name: "Dive",
    shared: true,
    to: "everyone",
    properties: [{ name: "phase", type: int, to: "everyone" }],
    requests: [],
    events: [],
  },
]);

const clients = ["Ana", "Bo"].map((name, i) => ({ number: i + 1, name, role: "player" }));
const diver = (entity: number, owner: number, x: number) => ({
  entity,
  kind: "Diver",
  owner,
  values: { hull: 90, air: 50, plan: 1, finds: 0, pos: [x, 0] },
});
const eel = (entity: number, x: number) => ({ entity, kind: "Eel", owner: 0, values: { hull: 9, pos: [x, 0] } });

// seenBy gives what a client may have of a frame of spawned things.
function seenBy(client: number, frame: Frame): Frame {
  const spawned = frame.state![0]!.spawned!.map((t) => {
    const held = Object.entries(t.values).filter(
      ([name]) => name !== "finds" && (name !== "air" || t.owner === client),
    );
    return { ...t, values: Object.fromEntries(held) };
  });
  return { ...frame, state: [{ joined: clients, spawned }] };
}

function opened(): State {
  const dive = { entity: 31, kind: "Dive", owner: 0, values: { phase: 1 } };
  const things = [diver(11, 1, 0), diver(12, 2, 50), eel(21, 40), eel(22, 3), dive];
  const server: Frame = { tick: 10, snapshot: true, state: [{ joined: clients, spawned: things }] };
  const message: Inline = {
    type: "sheet",
    outline,
    tick: 10,
    server,
    clients: clients.map((c) => ({ ...c, test: true, seen: 10, sent: 10, frames: [seenBy(c.number, server)] })),
    decisions: [],
    told: [],
  };
  return take(fresh(1), message);
}

const all: View = { text: "", only: "", near: 0, folded: new Set(), pinned: new Set() };
const names = (s: State, view: Partial<View>) =>
  rowsOf(s, { ...all, ...view }).map((r) =>
    r.thing ? `${r.name}.${r.property?.name ?? "owner"}` : `${r.name} ${r.folded}`,
  );

const tick = (s: State, at: number, server: Frame | undefined, ana?: Frame, waits?: number): State =>
  take(s, {
    type: "tick",
    tick: at,
    server,
    clients: ana ? [{ ...clients[0]!, test: true, seen: at, sent: at, frames: [ana], waits }] : [],
    decisions: [],
    told: [],
  });

const values = (at: number, entity: number, kind: string, held: Record<string, unknown>): Frame => ({
  tick: at,
  state: [{ values: [{ entity, kind, values: held }] }],
});

test("rows are filtered by words, owner and kind, sorted by nearness, folded and pinned", () => {
  const s = opened();
  expect(names(s, {})).toHaveLength(15);
  expect(names(s, { text: "eel hull" })).toEqual(["Eel.hull", "Eel.hull"]);
  expect(names(s, { text: "owner:bo AIR" })).toEqual(["Bo.Diver.air"]);
  expect(names(s, { text: "kind:diver property:pos" })).toEqual(["Ana.Diver.pos", "Bo.Diver.pos"]);
  expect(names(s, { text: "kelp" })).toEqual([]);
  expect(rowsOf(s, { ...all, near: 12, text: "property:pos" }).map((r) => r.thing?.entity)).toEqual([12, 21, 22, 11]);
  expect(rowsOf(s, { ...all, near: 12 }).at(-1)?.name).toBe("Dive");
  expect(names(s, { folded: new Set(["Diver"]), text: "hull" })).toEqual(["Diver 2", "Eel.hull", "Eel.hull"]);
  const pinned = rowsOf(s, { ...all, pinned: new Set(["22/hull"]) });
  expect(pinned[0]).toMatchObject({ key: "22/hull", pinned: true, first: true });
  expect(pinned).toHaveLength(15);
  expect(pinned.filter((r) => r.first)).toHaveLength(6);
});

test("rows are those that differ, or that have changed in the last seconds", () => {
  let s = opened();
  expect(names(s, { only: "differs" })).toEqual([]);
  expect(names(s, { only: "changed" })).toEqual([]);
  s = tick(s, 11, values(11, 11, "Diver", { hull: 80 }));
  expect(names(s, { only: "differs" })).toEqual(["Ana.Diver.hull"]);
  expect(names(s, { only: "changed" })).toEqual(["Ana.Diver.hull"]);
  expect(names(tick(s, 11 + 100, undefined), { only: "changed" })).toEqual(["Ana.Diver.hull"]);
  expect(names(tick(s, 11 + 101, undefined), { only: "changed" })).toEqual([]);
});

test("a view stands in the address, and what is as at first does not", () => {
  const view: View = {
    text: "hull owner:bo",
    only: "differs",
    near: 12,
    folded: new Set(["Eel"]),
    pinned: new Set(["12/hull"]),
  };
  const params = paramsOf(view, new URLSearchParams("at=11/air"));
  expect(viewOf(params)).toEqual(view);
  expect(params.get("at")).toBe("11/air");
  expect([...paramsOf(all, new URLSearchParams())]).toEqual([]);
  expect(viewOf(new URLSearchParams("only=kelp&near=x"))).toEqual(all);
});

test("how copies stand is kept up to date by what frames touch", () => {
  let s = opened();
  expect(count(s.server, s.columns)).toEqual({ different: 0, late: 0 });
  s = tick(s, 11, values(11, 11, "Diver", { hull: 80 }));
  expect(count(s.server, s.columns)).toEqual({ different: 2, late: 0 });
  s = tick(s, 12, undefined, values(12, 11, "Diver", { hull: 79 }), 12);
  expect(count(s.server, s.columns)).toEqual({ different: 1, late: 1 });
  s = tick(s, 13, undefined, values(13, 11, "Diver", { hull: 80 }));
  expect(count(s.server, s.columns)).toEqual({ different: 1, late: 0 });
  expect(s.columns[1]?.apart.get(11)).toEqual(new Map([["hull", "apart"]]));
  s = tick(s, 14, { tick: 14, state: [{ gone: [11] }] });
  expect(s.columns.map((c) => c.apart.get(11))).toEqual([new Map([["", "apart"]]), new Map([["", "apart"]])]);
  expect(s.changed.has(11)).toBe(false);
  s = tick(s, 15, undefined, { tick: 15, state: [{ gone: [11] }] });
  expect(s.columns.map((c) => c.apart.size)).toEqual([0, 1]);
});

test("who has just come is apart until the first frame is confirmed", () => {
  const s = take(opened(), {
    type: "tick",
    tick: 11,
    clients: [{ number: 3, name: "Cleo", role: "player", test: false, seen: 0, sent: 11, waits: 11 }],
    decisions: [],
    told: [],
  });
  expect(count(s.server, s.columns.slice(2))).toEqual({ different: 0, late: 9 }); // what everyone gets
});

// A number generator, so that a failure can be run again (mulberry32).
function dice(seed: number): (n: number) => number {
  let a = seed;
  return (n) => {
    a = (a + 0x6d2b79f5) | 0;
    let t = Math.imul(a ^ (a >>> 15), 1 | a);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) % n;
  };
}

test("whatever frames come, what is kept is what comparing everything comes to", () => {
  for (let seed = 1; seed <= 60; seed++) {
    const roll = dice(seed);
    let s = opened();
    for (let at = 11; at < 60; at++) {
      const frame = (): Frame => {
        const entity = [11, 12, 21, 22, 23][roll(5)] as number;
        const kind = entity < 20 ? "Diver" : "Eel";
        const thing = entity < 20 ? diver(entity, 1 + roll(2), roll(9)) : eel(entity, roll(9));
        const parts: Frame["state"] = [
          { values: [{ entity, kind, values: { hull: roll(3) } }] },
          { values: [{ entity, kind, values: {}, withdrawn: [["hull", "plan", "air"][roll(3)] as string] }] },
          { spawned: [thing] },
          { gone: [entity] },
          { owned: [{ entity, owner: roll(3) }] },
        ];
        return { tick: at, snapshot: roll(25) === 0, state: [parts[roll(5)] as never] };
      };
      const server = roll(2) === 0 ? { ...frame(), snapshot: false } : undefined;
      s = tick(s, at, server, roll(2) === 0 ? frame() : undefined, roll(2) * at);
      for (const c of s.columns) expect(c.apart, `seed ${seed}, tick ${at}`).toEqual(anew(s.server, c));
    }
  }
});

// anew compares everything that the server and a client hold.
function anew(server: Copy, client: { number: number; copy: Copy }): Apart {
  const out: Apart = new Map();
  const note = (entity: number, name: string, standing: string) => {
    if (standing !== "≠" && standing !== "apart") return;
    const of = out.get(entity) ?? new Map();
    of.set(name, standing as never);
    out.set(entity, of);
  };
  for (const t of server.things.values()) {
    const kind = outline.kinds.find((k) => k.name === t.kind)!;
    note(t.entity, "", standingOfOwner(kind, client, t, false));
    for (const p of kind.properties) note(t.entity, p.name, standingOf(kind, client, t, p));
  }
  for (const t of client.copy.things.values())
    if (!server.things.has(t.entity))
      note(
        t.entity,
        "",
        standingOfOwner(
          outline.kinds.find((k) => k.name === t.kind)!,
          client,
          t,
          true,
        ),
      );
  return out;
}

test("a snapshot of a client is compared whole", () => {
  const server = emptyCopy();
  const copy = emptyCopy();
  apply(server, { tick: 1, state: [{ spawned: [eel(21, 1), eel(22, 2)] }] });
  const touched = apply(
    copy,
    { tick: 1, snapshot: true, state: [{ spawned: [eel(21, 1), eel(23, 2)] }] },
    nothingTouched(),
  );
  const apart: Apart = new Map([[99, new Map([["hull", "apart" as const]])]]);
  recheck(apart, truthOf(outline, server), { number: 1, copy }, touched);
  expect([...apart.keys()].sort()).toEqual([22, 23]);
});

test("values with parts differ at places that are named", () => {
  const item = { name: "Item", values: ["flare", "patch"] };
  const list: Type = { form: "list", max: 4, of: { form: "enum", enum: item } };
  expect(itemsOf(list, ["flare", "patch"])).toEqual([
    { place: "[0]", text: "flare" },
    { place: "[1]", text: "patch" },
  ]);
  expect(differencesOf(list, ["flare", "patch"], ["flare"])).toEqual([{ place: "[1]", server: "patch", client: "" }]);
  const map: Type = { form: "map", key: { form: "enum", enum: item }, of: int };
  expect(
    differencesOf(
      map,
      [["flare", 3]],
      [
        ["flare", 2],
        ["patch", 1],
      ],
    ),
  ).toEqual([
    { place: "[flare]", server: "3", client: "2" },
    { place: "[patch]", server: "", client: "1" },
  ]);
  const slots: Type = { form: "stacks", enum: item, max: 3, each: 5, slotted: true };
  expect(differencesOf(slots, [null, ["flare", 2]], [["flare", 2]]).map((d) => d.place)).toEqual(["[1]", "[0]"]);
  const record: Type = {
    form: "record",
    name: "Mark",
    fields: [
      { name: "at", type: { form: "vec2" } },
      { name: "all", type: list },
    ],
  };
  expect(differencesOf(record, { at: [1, 2], all: [] }, { at: [1, 3], all: [] })).toEqual([
    { place: ".at", server: "(1, 2)", client: "(1, 3)" },
  ]);
  expect(itemsOf(int, 3)).toEqual([]);
});
