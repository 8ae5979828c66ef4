// The faults that are planted between the server and one client, played as the drills that find them: what shows
// between copies has to stand in the sheet and be counted on the strip.

import { execFileSync } from "node:child_process";
import { mkdtempSync, readdirSync, readFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { beforeAll, expect, test } from "vitest";
import type { DrillFailure, Watch } from "../src/shared/api";
import { count, knowsOthers } from "../src/session/apart";
import { rowsOf, viewOf } from "../src/session/rows";
import { fresh, playBack, showMoment, take, useWatch, type State } from "../src/session/watch";

type Played = { name: string; between: boolean; drill: string; failure: DrillFailure; messages: Watch[] };

let all: Played[] = [];

beforeAll(() => {
  const into = mkdtempSync(join(tmpdir(), "planted-"));
  execFileSync("go", ["test", "-count=1", "-run", "TestPlantedFaultsArePlayed", "./service/trials"], {
    cwd: join(import.meta.dirname, "../.."),
    env: { ...process.env, KAMERAD_PLANTED: into },
  });
  all = readdirSync(into).map((f) => JSON.parse(readFileSync(join(into, f), "utf8")) as Played);
}, 180_000);

// Why a fault does not show between copies: what it changes is no state, or the server and each client have it alike.
const unseen: Record<string, string> = {
  "an event is lost": "events are no state",
  "an event comes twice": "events are no state",
  "an event has another value": "events are no state",
  "a log line is lost": "log lines are no state",
  "a denial arrives as accepted": "decisions are no state",
  "a reason is another one": "decisions are no state",
  "decisions are lost": "decisions are no state",
  "a value is not withdrawn": "its audience is asked for each client, which only the server can; the value is right",
};

// What each of the others shows first: where, on which client.
const seenAt: Record<string, string> = {
  "one client is off by one": "ana.Diver.hull on bo",
  "a value is leaked": "ana.Diver.air on bo",
  "a list has another order": "Strongbox.choices on bo",
  "an entity is missing on one client": "Flare.thrower on bo",
  "an entity stays on one client": "Flare.owner on bo",
  "an owner is stale": "ana.Winch.owner on bo",
  "changes are lost": "Dive.phase on bo",
  "who left is still there": "who is there on bo",
  "a spawn comes with first values": "bo.Diver.crew on bo",
  "something is left over from an earlier run": "Crate.owner on bo",
};

// differences gives what the sheet shows as different, by row and client, with the first tick.
function differences(s: State, seen: Map<string, number>): void {
  const note = (name: string) => seen.has(name) || seen.set(name, s.tick);
  for (const c of s.columns) if (!c.waits && !knowsOthers(s.server, c)) note(`who is there on ${c.name}`);
  for (const row of rowsOf(s, viewOf(new URLSearchParams("only=differs"))))
    for (const c of s.columns) {
      const standing = c.apart.get(row.thing?.entity ?? 0)?.get(row.property?.name ?? "");
      if (standing === undefined || (standing === "apart" && c.waits)) continue;
      note(`${row.name}.${row.property?.name ?? "owner"} on ${c.name}`);
    }
}

test("each planted fault that shows between copies stands in the sheet, by entity, property, client and tick", () => {
  expect(all.length).toBe(27);
  for (const fault of all) {
    const seen = new Map<string, number>();
    let counted = 0;
    fault.messages.reduce((before, m) => {
      const s = take(before, m);
      differences(s, seen);
      counted = Math.max(counted, count(s.server, s.columns).different);
      return s;
    }, fresh(0));
    const [where, tick] = [...seen][0] ?? [];
    if (!fault.between || unseen[fault.name]) {
      // What is planted into the contract itself is as the contract says, on every side.
      expect(seen, fault.name).toEqual(new Map());
      expect(counted, fault.name).toBe(0);
      continue;
    }
    expect(where, fault.name).toBe(seenAt[fault.name]);
    expect(tick, fault.name).toBeLessThanOrEqual(fault.failure.tick);
    expect(counted, fault.name).toBeGreaterThan(0);
  }
});

test("what is played without a fault shows no difference", () => {
  const played = all.filter((f) => !f.between);
  expect(played.length).toBeGreaterThan(8);
  for (const fault of played)
    fault.messages.reduce((before, m) => {
      const s = take(before, m);
      expect(count(s.server, s.columns).different, `${fault.name}, tick ${m.tick}`).toBe(0);
      return s;
    }, fresh(0));
});

test("a moment that is gone back to shows what was shown then, from wherever one comes", () => {
  const long = all.reduce((a, b) => (a.messages.length > b.messages.length ? a : b));
  const shown = (s: State) => ({
    tick: s.tick,
    things: [...s.server.things],
    clients: s.columns.map((c) => [c.name, c.seen, [...c.copy.things]]),
    decisions: s.decisions.map((d) => [d.tick, d.client.name, d.seq]),
  });
  const then: ReturnType<typeof shown>[] = [];
  long.messages.reduce((before, m) => {
    const s = take(before, structuredClone(m));
    then.push(structuredClone(shown(s)));
    return s;
  }, fresh(0));
  playBack(structuredClone(long.messages), long.messages.at(-1)?.tick ?? 0);
  const order = [0.9, 0.2, 0.21, 0.5, 0.499, 0.1, 1, 0, 0.7].map((x) => Math.floor(x * (then.length - 1)));
  for (const i of order) {
    showMoment(then[i]?.tick ?? 0);
    expect(shown(useWatch.getState())).toEqual(then[i]);
  }
});
