// What a copy is made of, and how it is compared.

import { expect, test } from "vitest";
import {
  apply,
  compare,
  compareOwner,
  emptyCopy,
  format,
  moved,
  nameOf,
  present,
  stale,
  things,
} from "../src/session/copy";
import { count, recheck, truthOf, type Apart } from "../src/session/apart";
import { fresh } from "../src/session/watch";
import { take, wreck, type Inline } from "./wreck";

const outline = wreck([
  {
    name: "Diver",
    per: "player",
    to: "everyone",
    properties: [
      { name: "hull", type: { form: "int", high: 100 }, to: "everyone" },
      { name: "air", type: { form: "real", high: 200, per: 2, unit: 1 }, to: "owner" },
      { name: "finds", type: { form: "int", high: 3 }, to: "nobody" },
    ],
    requests: [],
    events: [],
  },
]);

test("a frame's parts are applied across its blocks in their order", () => {
  const copy = emptyCopy();
  apply(copy, {
    tick: 3,
    snapshot: true,
    state: [
      { values: [{ entity: 7, kind: "Diver", values: { air: 9.5 } }], gone: [8] },
      {
        joined: [{ number: 1, name: "Ana", role: "player" }],
        spawned: [
          { entity: 7, kind: "Diver", owner: 1, values: { hull: 80 } },
          { entity: 8, kind: "Diver", owner: 2, values: {} },
        ],
      },
    ],
  });
  expect(copy.tick).toBe(3);
  expect(things(copy)).toEqual([{ entity: 7, kind: "Diver", owner: 1, values: { hull: 80, air: 9.5 } }]);
  expect(nameOf(copy.clients, { kind: "Diver", owner: 1 })).toBe("Ana.Diver");
  expect(nameOf(copy.clients, { kind: "Diver", owner: 5 })).toBe("5.Diver");
  expect(nameOf(copy.clients, { kind: "Dive", owner: 0 })).toBe("Dive");
  apply(copy, { tick: 4, state: [{ joined: [{ number: 1, name: "Ana", role: "player" }], left: [9] }] });
  expect(copy.clients).toHaveLength(1);
  apply(copy, { tick: 5, snapshot: true });
  expect(things(copy)).toEqual([]);
});

test("each cell says how a client's value stands to the server's", () => {
  const truth = { entity: 7, kind: "Diver", owner: 1, values: { hull: 80, air: 9.5, finds: 2 } };
  const client = (number: number, values: Record<string, unknown> | undefined, waits = 0) => {
    const copy = emptyCopy();
    if (values) copy.things.set(7, { ...truth, values });
    return { number, waits, copy };
  };
  const [hull, air, finds] = outline.kinds[0]!.properties as [never, never, never];
  const cell = (c: ReturnType<typeof client>, p: never) => {
    const { text, sign, behind } = compare(outline, c, truth, p, 13);
    return `${text}${sign}${behind || ""}`;
  };
  expect(cell(client(1, { hull: 80 }), hull)).toBe("80=");
  expect(cell(client(1, { hull: 79 }), hull)).toBe("79≠");
  expect(cell(client(1, { hull: 79 }, 10), hull)).toBe("79late4");
  expect(cell(client(1, undefined), hull)).toBe("≠");
  expect(cell(client(1, undefined, 13), hull)).toBe("late1");
  expect(cell(client(1, { air: 9.5 }), air)).toBe("9.5=");
  expect(cell(client(2, { hull: 80 }), air)).toBe("–");
  expect(cell(client(2, { air: 9.5 }), air)).toBe("9.5≠");
  expect(cell(client(1, { finds: 2 }), finds)).toBe("2≠");
});

test("an entity that is gone, or belongs to another client, is not in step", () => {
  const truth = { entity: 7, kind: "Diver", owner: 1, values: { hull: 80, air: 9.5 } };
  const server = emptyCopy();
  server.things.set(7, truth);
  const client = (waits: number, ...held: (typeof truth)[]) => {
    const copy = emptyCopy();
    copy.clients = [{ number: 2, name: "Bo", role: "player" }];
    for (const thing of held) copy.things.set(thing.entity, thing);
    return { number: 1, name: "Ana", role: "player", test: false, waits, copy };
  };
  const counts = (c: ReturnType<typeof client>) => {
    const apart: Apart = new Map();
    recheck(apart, truthOf(outline, server), c, { all: true, entities: new Set(), updates: [] });
    return count(server, [{ ...c, apart }]);
  };
  const bos = { ...truth, owner: 2 };
  const buoy = { ...truth, entity: 8 };
  expect(counts(client(0, truth))).toEqual({ different: 0, late: 0 });
  expect(counts(client(0, bos))).toEqual({ different: 1, late: 0 });
  expect(counts(client(0, truth, buoy))).toEqual({ different: 1, late: 0 });
  expect(counts(client(12, truth, buoy))).toEqual({ different: 0, late: 1 });
  expect(compareOwner(outline, client(0, truth), truth, false, 13)).toBeUndefined();
  expect(compareOwner(outline, client(0, bos), truth, false, 13)).toEqual({ text: "Bo", sign: "≠", behind: 0 });
  expect(stale(server, [client(0, truth, buoy)])).toEqual([buoy]);
});

test("values are worded for people", () => {
  const item = { name: "Item", values: ["flare", "patch"] };
  expect(
    format({ form: "stacks", enum: item }, [
      ["flare", 2],
      ["patch", 1],
    ]),
  ).toBe("2\u00a0flare, 1\u00a0patch");
  expect(format({ form: "stacks", enum: item }, [])).toBe("empty");
  expect(format({ form: "enum", enum: item }, "flare")).toBe("flare");
  expect(format({ form: "text" }, "an echo")).toBe('"an echo"');
  expect(format({ form: "bool" }, true)).toBe("true");
});

test("messages of a watched session add up", () => {
  const session = {
    id: 1,
    contract: "wreck",
    version: 1,
    opened_at: "",
    open: true,
    tick: 9,
    paused: false,
    queued: 0,
    clients: [],
  };
  const none = { clients: [], decisions: [], told: [] };
  const spawned = [{ entity: 7, kind: "Diver", owner: 1, values: { hull: 80 } }];
  const ana = { number: 1, name: "Ana", role: "player", test: true };
  const bo = { number: 2, name: "Bo", role: "player", test: false };
  const messages: Inline[] = [
    {
      ...none,
      type: "sheet",
      tick: 9,
      session,
      outline,
      server: { tick: 9, snapshot: true, state: [{ spawned }] },
      clients: [{ ...ana, seen: 8, sent: 9 }],
    },
    {
      ...none,
      type: "tick",
      tick: 10,
      server: { tick: 10, state: [{ values: [{ entity: 7, kind: "Diver", values: { hull: 70 } }] }] },
      clients: [{ ...bo, seen: 0, sent: 10 }],
    },
    {
      ...none,
      type: "tick",
      tick: 11,
      clients: [
        {
          ...ana,
          seen: 10,
          sent: 10,
          frames: [
            { tick: 9, snapshot: true, state: [{ spawned }] },
            { tick: 10, state: [{ values: [{ entity: 7, kind: "Diver", values: { hull: 70 } }] }] },
          ],
        },
      ],
    },
    { ...none, type: "tick", tick: 12, left: [2] },
  ];
  let state = fresh(1);
  for (const m of messages) state = take(state, m);
  expect(state.phase).toBe("live");
  expect(state.tick).toBe(12);
  expect(state.server.things.get(7)?.values.hull).toBe(70);
  expect(state.columns.map((c) => c.name)).toEqual(["Ana"]);
  expect(state.columns[0]?.copy.things.get(7)?.values.hull).toBe(70);
  expect(spawned[0]?.values.hull).toBe(80);
});

test("what changes hands and what is withdrawn leave a copy as they should", () => {
  const copy = emptyCopy();
  apply(copy, {
    tick: 1,
    snapshot: true,
    state: [{ spawned: [{ entity: 7, kind: "Diver", owner: 1, values: { hull: 80, air: 9.5 } }] }],
  });
  apply(copy, {
    tick: 2,
    state: [
      {
        owned: [{ entity: 7, owner: 2 }],
        values: [{ entity: 7, kind: "Diver", values: { hull: 79 }, withdrawn: ["air"] }],
      },
    ],
  });
  expect(things(copy)).toEqual([
    { entity: 7, kind: "Diver", owner: 2, values: { hull: 79 }, withdrawn: new Set(["air"]) },
  ]);
});

test("values of all forms are worded for people", () => {
  expect(format({ form: "vec2" }, [1.5, -2])).toBe("(1.5, -2)");
  expect(format({ form: "ref" }, null)).toBe("nothing");
  expect(format({ form: "list", of: { form: "int" } }, [1, 2])).toBe("[1, 2]");
});

test("what moves by itself is where its motion says, on the nearest step and within its range", () => {
  const place = { form: "vec2", low: -20, high: 20, per: 2, unit: 1 };
  const motion = { from: [0.5, 1.5], rate: [2, -100], at: 4 };
  expect(moved(place, motion, { tick: 4, rate: 20 })).toEqual([0.5, 1.5]);
  expect(moved(place, motion, { tick: 7, rate: 20 })).toEqual([1, -10]);
  expect(
    moved({ form: "real", low: -9, high: 9, per: 1, unit: 1 }, { from: 0, rate: 1, at: 0 }, { tick: 50, rate: 20 }),
  ).toBe(2);
  expect(
    moved({ form: "real", low: -9, high: 9, per: 1, unit: 1 }, { from: 0, rate: -1, at: 0 }, { tick: 70, rate: 20 }),
  ).toBe(-4);
  const flare = { entity: 9, kind: "Diver", owner: 1, values: { hull: motion } };
  const copy = emptyCopy();
  copy.things.set(9, { ...flare, values: { hull: { ...motion } } });
  const property = { name: "hull", type: place, to: "everyone" };
  expect(compare(outline, { number: 1, copy }, flare, property, 7)).toEqual({ text: "(1, -10)", sign: "=", behind: 0 });
});

test("what is attached is where the other one is, and stays where it was when that is gone", () => {
  const place = { form: "vec2", low: -20, high: 20, per: 2, unit: 1 };
  const kinds = [
    {
      name: "Diver",
      to: "everyone",
      requests: [],
      events: [],
      properties: [{ name: "pos", type: place, to: "everyone" }],
    },
    {
      name: "Relic",
      to: "everyone",
      requests: [],
      events: [],
      properties: [{ name: "pos", type: place, to: "everyone" }],
    },
  ];
  const sea = { ...outline, kinds };
  const copy = emptyCopy();
  const relic = {
    entity: 2,
    kind: "Relic",
    owner: 0,
    values: { carrier: 1, pos: { attached: "carrier.pos", by: [0, -1], is: [3, 3] } },
  };
  copy.things.set(1, { entity: 1, kind: "Diver", owner: 1, values: { pos: { from: [1, 2], rate: [20, 0], at: 0 } } });
  copy.things.set(2, relic);
  const property = { name: "pos", type: place, to: "everyone" };
  expect(present(sea, copy, relic, property, 2)).toEqual([3, 1]);
  const truth = { ...relic, values: { ...relic.values, pos: { ...relic.values.pos, is: [0, 0] } } };
  expect(compare(sea, { number: 1, copy }, truth, property, 2)).toEqual({ text: "(3, 1)", sign: "=", behind: 0 });
  copy.things.delete(1);
  expect(present(sea, copy, relic, property, 2)).toEqual([3, 3]);
});
