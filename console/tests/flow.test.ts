// The flow of an action: what became of it on every side, and when.

import { expect, test } from "vitest";
import { flowOf, keyOf, mermaid } from "../src/session/flow";
import { fresh, type State } from "../src/session/watch";
import type { Decision, Frame } from "../src/shared/api";
import { take, wreck, type Inline } from "./wreck";

const outline = wreck([
  {
    name: "Diver",
    per: "player",
    to: "everyone",
    properties: [
      { name: "hull", type: { form: "int", low: 0, high: 100 }, to: "everyone" },
      { name: "air", type: { form: "int", low: 0, high: 100 }, to: "owner" },
    ],
    requests: [],
    events: [],
  },
]);
const clients = ["Ana", "Bo", "Cleo"].map((name, i) => ({ number: i + 1, name, role: "player" }));
const diver = { entity: 11, kind: "Diver", owner: 1, values: { hull: 60 } };

function opened(): State {
  const frame = (air: boolean): Frame => ({
    tick: 10,
    snapshot: true,
    state: [{ joined: clients, spawned: [{ ...diver, values: { hull: 60, ...(air ? { air: 5 } : {}) } }] }],
  });
  return take(fresh(1), {
    type: "sheet",
    outline,
    tick: 10,
    server: frame(true),
    clients: clients.map((c) => ({ ...c, test: true, seen: 10, sent: 10, frames: [frame(c.number === 1)] })),
    decisions: [decision(9, 1)],
    told: [],
  });
}

function decision(tick: number, seq: number): Decision {
  const change = (property: string, old: unknown, now: unknown) => ({
    entity: 11,
    kind: "Diver",
    owner: 1,
    property,
    old,
    new: now,
  });
  return {
    tick,
    client: clients[0]!,
    seq,
    request: "Diver.use",
    entity: 11,
    owner: 1,
    args: ["patch", [1, 2]],
    outcome: "accepted",
    stage: "",
    reason: "",
    check_text: "",
    line: 0,
    changes: [change("hull", 60, 85), change("air", 5, 4)],
    told: ["Diver.used"],
  };
}

function message(tick: number, seen: number[], more: Partial<Inline> = {}): Inline {
  const list = clients.map((c, i) => ({ ...c, test: true, seen: seen[i] as number, sent: tick }));
  return { type: "tick", tick, clients: list, decisions: [], told: [], ...more };
}

const told = [{ tick: 11, event: { event: "Diver.used", values: {} }, clients: [1, 3] }];

test("an action goes to who asked, and to whom it changed something or told something", () => {
  let s = opened();
  s = take(s, message(11, [10, 10, 10], { decisions: [decision(11, 2)], told }));
  s = take(s, message(12, [11, 10, 11]));
  s = take(s, message(14, [13, 10, 13]));
  const flow = flowOf(s, s.decisions[0]!);
  expect(flow.lanes.map((l) => l.name)).toEqual(["Ana", "Bo", "Cleo"]);
  expect(flow.msPerTick).toBe(50);
  expect(flow.arrows.map((a) => [a.sort, a.to, a.tick, a.underWay, a.late])).toEqual([
    ["request", 0, 11, false, false],
    ["decision", 1, 12, false, false],
    ["change", 1, 12, false, false],
    ["change", 3, 12, false, false],
    ["event", 1, 12, false, false],
    ["event", 3, 12, false, false],
    ["change", 2, 14, true, false],
  ]);
  expect(flow.arrows[0]?.text).toBe("Diver.use(patch, [1,2])");
  expect(flow.arrows[2]?.text).toBe("Ana.Diver.hull 60 → 85, Ana.Diver.air 5 → 4");
  expect(flow.arrows[3]?.text).toBe("Ana.Diver.hull 60 → 85");
  s = take(s, message(16, [15, 12, 15]));
  expect(flowOf(s, s.decisions[0]!).arrows.at(-1)).toMatchObject({ to: 2, tick: 16, late: true, underWay: false });
});

test("who comes later is not waited for", () => {
  let s = opened();
  s = take(s, message(11, [10, 10, 10], { decisions: [decision(11, 2)], told }));
  const dov = { number: 4, name: "Dov", role: "player", test: true, seen: 12, sent: 12 };
  s = take(s, {
    type: "tick",
    tick: 12,
    clients: [{ ...dov, frames: [{ tick: 12, snapshot: true, state: [{ spawned: [diver] }] }] }],
    decisions: [],
    told: [],
  });
  expect(s.delivered.get(keyOf(s.decisions[0]!))?.has(4)).toBe(false);
  expect(flowOf(s, s.decisions[0]!).lanes.map((l) => l.name)).toEqual(["Ana", "Bo", "Cleo"]);
});

test("of what was before the page it is not known when it arrived", () => {
  const s = take(opened(), message(11, [10, 10, 10]));
  const old = s.decisions[0]!;
  expect(s.delivered.get(keyOf(old))).toBeUndefined();
  const flow = flowOf(s, old);
  expect(flow.isKnown).toBe(false);
  expect(flow.arrows.every((a) => a.tick === old.tick && !a.underWay)).toBe(true);
});

test("a flow is written as a sequence diagram", () => {
  let s = opened();
  s = take(s, message(11, [10, 10, 10], { decisions: [{ ...decision(11, 2), changes: [], told: [] }] }));
  s = take(s, message(12, [11, 10, 11]));
  expect(mermaid(flowOf(s, s.decisions[0]!))).toBe(
    "sequenceDiagram\n  participant C1 as Ana\n  participant S as Server\n" +
      "  C1->>S: Diver.use(patch, [1,2]) (tick 11, 0 ms)\n  S-->>C1: accepted (tick 12, 50 ms)\n",
  );
});

test("what is kept of arrivals is bounded by the decisions that are kept", () => {
  let s = opened();
  for (let i = 0; i < 300; i++) s = take(s, message(11 + i, [10, 10, 10], { decisions: [decision(11 + i, 2 + i)] }));
  expect(s.decisions.length).toBe(200);
  expect(s.delivered.size).toBe(200);
});
