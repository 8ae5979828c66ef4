import { expect, test } from "vitest";
import { linesOf, seriesOf } from "../src/session/traffic";
import type { Span } from "../src/shared/api";

const spans: Span[] = [
  {
    tick: 20,
    ticks: 20,
    clients: [1, 2],
    rows: [
      { type: "property", of: "Diver.hull", bits: [80, 16], counts: [10, 2] },
      { type: "framing", bits: [800, 800], counts: [20, 20] },
      { up: true, type: "request", of: "Diver.use", bits: [64, 0], counts: [1, 0] },
    ],
  },
  {
    tick: 40,
    ticks: 20,
    clients: [2],
    rows: [
      { type: "property", of: "Diver.air", bits: [64], counts: [4] },
      { type: "event", of: "Diver.used", bits: [32], counts: [1] },
    ],
  },
];

test("lines add up what every client was sent, the costliest first, a second", () => {
  const lines = linesOf(spans, 20, "item");
  expect(lines.map((l) => [l.words, l.up, l.bytes, l.count, l.bits])).toEqual([
    ["heads of frames", false, 100, 20, 40],
    ["Diver.hull", false, 6, 6, 8],
    ["Diver.air", false, 4, 2, 16],
    ["Diver.use request", true, 4, 0.5, 64],
    ["Diver.used event", false, 2, 0.5, 32],
  ]);
});

test("lines of one client leave out what others were sent", () => {
  const lines = linesOf(spans, 20, "item", 1);
  expect(lines.map((l) => [l.words, l.bytes])).toEqual([
    ["heads of frames", 50],
    ["Diver.hull", 5],
    ["Diver.use request", 4],
  ]);
});

test("lines by kind and by client add up to the same", () => {
  const sum = (by: "item" | "kind" | "client") => linesOf(spans, 20, by).reduce((all, l) => all + l.bytes, 0);
  expect(linesOf(spans, 20, "kind").map((l) => `${l.up ? "↑" : "↓"} ${l.words}`)).toEqual([
    "↓ heads of frames",
    "↓ Diver",
    "↑ Diver",
  ]);
  expect(linesOf(spans, 20, "client").map((l) => [l.client, l.up])).toEqual([
    [2, false],
    [1, false],
    [1, true],
  ]);
  expect(sum("kind")).toBe(sum("item"));
  expect(sum("client")).toBe(sum("item"));
});

test("the series says bytes a second, with time counted back from the newest", () => {
  expect(seriesOf(spans, 20)).toEqual([
    [-1, 0],
    [212, 12],
    [8, 0],
  ]);
  expect(seriesOf(spans, 20, 2)[1]).toEqual([102, 12]);
});
