// What pages choose from what they are given: files of a contract, what a line of a drill is about, presses to keep.

import { beforeEach, expect, test, vi } from "vitest";
import { chosenOf } from "../src/contracts/files";
import { aboutOf, filterOf, rowOf } from "../src/drills/filter";
import { overVersions } from "../src/drills/versions";
import { draftFrom, nearestStep, valueOf } from "../src/session/draft";
import { fresh } from "../src/session/watch";
import type { DrillReport, Type } from "../src/shared/api";
import { forget, keep, openKept, play, useKept } from "../src/session/kept";

test("of several files the contract is found, and how it calls the others", () => {
  const texts = {
    "wreck.kam": 'contract wreck language 1\ninclude "parts/crew.kam"\nconst walls: list<W> max 9 from "walls.json"\n',
    "crew.kam": "part Crew { }\n",
    "walls.json": "[]",
  };
  expect(chosenOf(texts)).toEqual({
    file: "wreck.kam",
    source: texts["wreck.kam"],
    files: { "parts/crew.kam": texts["crew.kam"], "walls.json": "[]" },
  });
  expect(() => chosenOf({ "a.kam": "part A { }" })).toThrow("None of the files is a contract");
  expect(() => chosenOf({ "a.kam": "contract a", "b.kam": "contract b" })).toThrow(
    "a.kam and b.kam are contracts both",
  );
});

test("a line of a drill is about an owner, a kind and a property, as far as it names them", () => {
  expect(aboutOf("expect bo sees ana.Diver.hull == 60")).toEqual({ owner: "ana", kind: "Diver", property: "hull" });
  expect(aboutOf("expect everyone sees Dive.phase == dive")).toEqual({ kind: "Dive", property: "phase" });
  expect(aboutOf("expect server sees Crate[2].opened == true")).toEqual({ kind: "Crate", property: "opened" });
  expect(aboutOf("settle")).toBeUndefined();
  expect(filterOf({ owner: "ana", kind: "Diver", property: "hull" })).toBe("kind:Diver owner:ana");
  const s = fresh(1);
  s.server.clients = [{ number: 2, name: "ana", role: "player" }];
  for (const [entity, owner] of [
    [7, 2],
    [8, 0],
    [9, 0],
  ] as const)
    s.server.things.set(entity, { entity, kind: "Diver", owner, values: {} });
  expect(rowOf({ owner: "ana", kind: "Diver", property: "hull" }, s)).toBe("7/hull");
  expect(rowOf({ kind: "Diver", property: "hull" }, s)).toBe(""); // it could be any of three
});

test("drills over versions begin with those that fail on the newest", () => {
  const report = (...results: [string, boolean][]) =>
    ({ results: results.map(([drill, passed]) => ({ drill, passed })) }) as DrillReport;
  const over = overVersions(
    new Map([
      [1, report(["b", true], ["a", true])],
      [2, report(["a", true], ["b", false], ["c", true])],
    ]),
  );
  expect(over.map((o) => [o.drill, o.passed.get(1), o.passed.get(2)])).toEqual([
    ["b", true, false],
    ["a", true, true],
    ["c", undefined, true],
  ]);
});

test("a draft that is made of a value comes to that value", () => {
  const int: Type = { form: "int", low: 0, high: 9, per: 1, unit: 1 };
  const types: [Type, unknown][] = [
    [int, 4],
    [{ form: "bool" }, true],
    [{ form: "text", max: 9 }, "rope"],
    [{ form: "ref", kinds: ["Eel"] }, null],
    [{ form: "vec2" }, [1.5, -2]],
    [{ form: "list", of: int, max: 3 }, [1, 2]],
    [{ form: "map", key: int, of: { form: "bool" }, max: 3 }, [[1, false]]],
    [{ form: "record", name: "Mark", fields: [{ name: "n", type: int }] }, { n: 3 }],
  ];
  for (const [type, value] of types) expect(valueOf(type, draftFrom(type, value)), type.form).toEqual(value);
  expect(nearestStep({ form: "real", low: -10, high: 10, per: 2, unit: 1 }, 1.3)).toBe(1.5);
  expect(nearestStep({ form: "real", low: -10, high: 10, per: 2, unit: 1 }, 99)).toBe(5);
});

beforeEach(() => {
  const kept = new Map<string, string>();
  vi.stubGlobal("localStorage", {
    getItem: (key: string) => kept.get(key) ?? null,
    setItem: (key: string, value: string) => kept.set(key, value),
  });
});

test("presses are kept by contract, and played again in their order and time", async () => {
  openKept("dive");
  const press = (request: string) => ({ client: "Ana", request, entity: 0, args: [] });
  keep(press("Diver.search"), 1000);
  keep(press("Diver.use"), 1030);
  keep(press("Diver.paint"), 99_000);
  expect(useKept.getState().presses.map((p) => p.after)).toEqual([0, 30, 10_000]);
  forget(2);
  openKept("quay");
  expect(useKept.getState().presses).toEqual([]);
  openKept("dive");
  const done: string[] = [];
  const began = Date.now();
  await play(useKept.getState().presses, (p) => Promise.resolve(done.push(p.request)));
  expect(done).toEqual(["Diver.search", "Diver.use"]);
  expect(Date.now() - began).toBeGreaterThanOrEqual(25);
});
