import { expect, test } from "vitest";
import {
  add,
  begin,
  emptyHistory,
  keptBytes,
  keptMs,
  messagesTo,
  partMs,
  rangeOf,
  wantsSheet,
} from "../src/session/history";

const text = (type: string, tick: number) => JSON.stringify({ type, tick });

test("messages are played from the newest sheet before the moment", () => {
  const h = emptyHistory();
  begin(h, 10, text("sheet", 10), 0);
  for (let tick = 11; tick <= 30; tick++) add(h, tick, text("tick", tick), tick);
  begin(h, 25, text("sheet", 25), 31); // it came after what followed it
  add(h, 31, text("tick", 31), 32);
  const ticks = (tick: number, shown?: number) => messagesTo(h, tick, shown).map((m) => `${m.type} ${m.tick}`);
  expect(rangeOf(h)).toEqual([10, 31]);
  expect(ticks(12)).toEqual(["sheet 10", "tick 11", "tick 12"]);
  expect(ticks(26)).toEqual(["sheet 25", "tick 26"]);
  expect(ticks(14, 12)).toEqual(["tick 13", "tick 14"]);
  expect(ticks(27, 24)).toEqual(["sheet 25", "tick 26", "tick 27"]); // another part
  expect(ticks(26, 28)).toEqual(["sheet 25", "tick 26"]); // back
  expect(ticks(3)).toEqual(["sheet 10"]);
});

test("what is kept is bounded in time and in bytes", () => {
  const h = emptyHistory();
  let parts = 0;
  for (let now = 0; now < 20 * 60_000; now += 50) {
    if (wantsSheet(h, now)) {
      begin(h, now, text("sheet", now), now);
      parts++;
    }
    add(h, now + 1, text("tick", now + 1), now);
  }
  expect(parts).toBe(20);
  const [from, to] = rangeOf(h);
  expect(to - from).toBeGreaterThanOrEqual(keptMs);
  expect(to - from).toBeLessThanOrEqual(keptMs + partMs + 100);
  const large = "x".repeat(1 << 20);
  for (let i = 0; i < 100; i++) {
    const now = 21 * 60_000 + i;
    if (wantsSheet(h, now)) begin(h, now, text("sheet", now), now);
    add(h, now + 1, large, now);
    expect(h.bytes).toBeLessThanOrEqual(keptBytes);
    expect(h.bytes).toBe(h.parts.reduce((all, p) => all + p.bytes, 0));
  }
});
