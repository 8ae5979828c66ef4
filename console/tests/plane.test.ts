// The plane of the map: what is where on the screen, and what stands apart.

import { expect, test } from "vitest";
import {
  fitted,
  gridStep,
  spotsOf,
  toScreen,
  toWorld,
  underPointer,
  wallsOf,
  zoomed,
  type Plane,
  type Point,
} from "../src/session/plane";
import { fresh } from "../src/session/watch";
import type { Frame, Type } from "../src/shared/api";
import { take, wreck } from "./wreck";

const size = { width: 800, height: 400 };
const close = (a: Point, b: Point) => a.forEach((v, i) => expect(v).toBeCloseTo(b[i] as number, 6));

test("a place of the world and one of the screen lead to each other", () => {
  const plane: Plane = { middle: [10, -5], scale: 20 };
  close(toScreen(plane, size, [10, -5]), [400, 200]);
  close(toScreen(plane, size, [11, -4]), [420, 180]); // up is up
  close(toWorld(plane, size, toScreen(plane, size, [3.25, 8])), [3.25, 8]);
  const at: Point = [100, 350];
  const nearer = zoomed(plane, size, at, 1.5);
  expect(nearer.scale).toBe(30);
  close(toWorld(nearer, size, at), toWorld(plane, size, at));
  expect(zoomed(plane, size, at, 1e-30).scale).toBe(1e-12);
});

test("all places fit, whatever they are", () => {
  for (const places of [
    [[0, 0]],
    [
      [-500, 3],
      [200, 3],
    ],
    [
      [0, 0],
      [0, 1e6],
    ],
    [],
  ] as Point[][]) {
    const plane = fitted(places, size);
    for (const [x, y] of places.map((p) => toScreen(plane, size, p))) {
      expect(x).toBeGreaterThanOrEqual(0);
      expect(x).toBeLessThanOrEqual(size.width);
      expect(y).toBeGreaterThanOrEqual(0);
      expect(y).toBeLessThanOrEqual(size.height);
    }
  }
});

test("the lines of the grid are far enough from each other", () => {
  expect([0.001, 0.7, 1, 3, 40, 900].map(gridStep)).toEqual([50_000, 100, 50, 20, 1, 0.05]);
});

const vec: Type = { form: "vec2", low: -90000, high: 90000, per: 100, unit: 1 };
const outline = wreck([
  { name: "Eel", to: "everyone", properties: [{ name: "pos", type: vec, to: "everyone" }], requests: [], events: [] },
  {
    name: "Ray",
    to: "everyone",
    properties: [
      { name: "vel", type: vec, to: "everyone" },
      { name: "pos", type: { ...vec, form: "vec3" }, to: "everyone" },
    ],
    requests: [],
    events: [],
  },
  {
    name: "Dive",
    to: "everyone",
    properties: [{ name: "vel", type: vec, to: "everyone" }],
    requests: [],
    events: [],
  },
]);

test("what has a place is listed, with where a client has it and where it goes", () => {
  const thing = (entity: number, kind: string, values: Record<string, unknown>) => ({ entity, kind, owner: 0, values });
  const moving = { from: [0, 0], rate: [2, 0], at: 10 };
  const server: Frame = {
    tick: 30,
    snapshot: true,
    state: [
      {
        spawned: [
          thing(1, "Eel", { pos: moving }),
          thing(2, "Ray", { vel: [9, 9], pos: [1, 2, 7] }),
          thing(3, "Dive", { vel: [1, 1] }),
          thing(4, "Eel", { pos: [5, 5] }),
        ],
      },
    ],
  };
  const held: Frame = {
    tick: 29,
    snapshot: true,
    state: [{ spawned: [thing(1, "Eel", { pos: [1, 0] }), thing(4, "Eel", { pos: [5, 5] })] }],
  };
  const ana = { number: 1, name: "Ana", role: "player", test: true, seen: 29, sent: 30, frames: [held] };
  const s = take(fresh(1), { type: "sheet", outline, tick: 30, server, clients: [ana], decisions: [], told: [] });
  const spots = spotsOf(s, s.columns[0]);
  expect(spots.map((p) => p.entity)).toEqual([1, 4, 2]);
  expect(spots[0]).toMatchObject({ at: [2, 0], rate: [2, 0], held: [1, 0], hidden: false });
  expect(spots[1]).toMatchObject({ at: [5, 5], held: undefined, hidden: false });
  expect(spots[2]).toMatchObject({ at: [1, 2], height: 7, hidden: true });
  expect(spotsOf(s, undefined).every((p) => !p.hidden && !p.held)).toBe(true);
  const plane: Plane = { middle: [2, 0], scale: 10 };
  expect(underPointer(spots, plane, size, [405, 203])?.entity).toBe(1);
  expect(underPointer(spots, plane, size, [420, 260])).toBeUndefined();
});

test("walls are lists of records that begin with two places", () => {
  const wall: Type = {
    form: "record",
    name: "Wall",
    fields: [
      { name: "a", type: vec },
      { name: "b", type: vec },
    ],
  };
  const constants = [
    { name: "walls", type: { form: "list", of: wall }, value: [{ a: [0, 0], b: [1, 2] }] },
    { name: "spots", type: { form: "list", of: vec }, value: [[1, 2]] },
    { name: "reach", type: { form: "int" }, value: 3 },
  ];
  expect(wallsOf({ ...outline, constants })).toEqual([
    [
      [0, 0],
      [1, 2],
    ],
  ]);
  const walls = [{ name: "hidden", type: { form: "list", of: wall }, value: [{ a: [3, 0], b: [3, 2] }] }];
  expect(wallsOf({ ...outline, constants, walls })).toHaveLength(2);
  expect(wallsOf(outline)).toEqual([]);
});
