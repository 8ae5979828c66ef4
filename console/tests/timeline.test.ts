// The time line: every line has a side and a tick, and none comes before what it came from.

import { expect, test } from "vitest";
import { entriesOf, type Entry, type Sort } from "../src/session/timeline";
import { fresh, take, type State } from "../src/session/watch";
import type { Decision, Outline, Watch } from "../src/shared/api";

const outline: Outline = { contract: "wreck", tick: 20, seats: 9, roles: ["player"], kinds: [] };
const all = new Set<Sort>(["request", "event", "coming", "fault"]);

const client = (number: number) => ({ number, name: `Diver ${number}`, role: "player" });
const decision = (tick: number, number: number, seq: number): Decision => ({
  tick,
  client: client(number),
  seq,
  request: "Diver.use",
  entity: 0,
  owner: 0,
  args: [],
  outcome: "accepted",
  stage: "",
  reason: "",
  check_text: "",
  line: 0,
  changes: [],
  told: ["Diver.used"],
});
const told = (at: number, clients: number[]) => ({ tick: at, event: { event: "Diver.used", values: {} }, clients });
const fault = (tick: number) => ({
  tick,
  times: 1,
  in: "a timer of Oven",
  file: "a.kam",
  line: 5,
  reason: "division by zero",
});
const tick = (at: number, more: Partial<Watch>): Watch => ({
  type: "tick",
  tick: at,
  clients: [],
  decisions: [],
  told: [],
  ...more,
});
const here = (number: number) => ({ ...client(number), test: false, seen: 0, sent: 0 });

function opened(): State {
  return take(fresh(1), { ...tick(1, {}), type: "sheet", outline, server: { tick: 1, snapshot: true } });
}

const words = (e: Entry) => `${e.tick} ${e.sort}${e.sort === "coming" ? (e.came ? " in" : " out") : ""}`;

test("within a tick clients come, requests are decided, and events are told", () => {
  let s = opened();
  s = take(s, tick(2, { clients: [here(1)] }));
  s = take(
    s,
    tick(3, {
      clients: [here(2)],
      decisions: [decision(3, 1, 1), decision(3, 1, 2)],
      told: [told(3, [1]), told(3, [])],
      faults: { count: 1, last: [fault(3)] },
    }),
  );
  s = take(s, tick(4, { left: [1], decisions: [decision(4, 1, 3)] }));
  expect(entriesOf(s, all).map(words)).toEqual([
    "4 coming out",
    "4 request",
    "3 event",
    "3 event",
    "3 fault",
    "3 request",
    "3 request",
    "3 coming in",
    "2 coming in",
  ]);
  const requests = entriesOf(s, new Set<Sort>(["request"]));
  expect(requests.map((e) => e.sort === "request" && e.decision.seq)).toEqual([3, 2, 1]);
  expect(entriesOf(s, all)[0]?.side?.name).toBe("Diver 1");
  expect(new Set(entriesOf(s, all).map((e) => e.key)).size).toBe(9);
  expect(entriesOf(s, new Set())).toEqual([]);
});

test("over a minute with ten clients no effect comes before its cause, and each line has a side and a tick", () => {
  let s = opened();
  let a = 7;
  const roll = (n: number) => (a = (a * 1103515245 + 12345) % 2147483648) % n;
  let seq = 0;
  for (let at = 2; at < 1202; at++) {
    const number = 1 + roll(10);
    const isHere = s.columns.some((c) => c.number === number);
    const asks = isHere && roll(3) > 0;
    const asked = asks ? [decision(at, number, ++seq)] : [];
    s = take(
      s,
      tick(at, {
        clients: isHere ? [] : [here(number)],
        left: isHere && !asks && roll(20) === 0 ? [number] : undefined,
        decisions: asked,
        told: asks ? [told(at, [number])] : [],
      }),
    );
    if (at % 25 > 0) continue;
    const list = entriesOf(s, all).toReversed();
    const came = new Set(s.columns.map((c) => c.number));
    let asking = -1;
    list.forEach((e, i) => {
      expect(e.tick).toBeGreaterThan(0);
      expect(e.sort === "request" || e.sort === "coming" ? e.side : e).toBeDefined();
      if (i > 0) expect(e.tick).toBeGreaterThanOrEqual((list[i - 1] as Entry).tick);
      if (e.sort === "request") asking = e.tick;
      // Each event here is told of a request of its tick; the oldest lines may have been let go of.
      if (e.sort === "event" && i > 0 && asking >= 0) expect(asking).toBe(e.tick);
    });
    expect(came.size).toBeLessThanOrEqual(10);
  }
  expect(s.decisions.length + s.told.length + s.comings.length).toBeLessThanOrEqual(600);
});
