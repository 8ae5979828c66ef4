// What stands in the fields of an argument, and what it comes to.

import { expect, test } from "vitest";
import { draftOf, rangeOf, valueOf, type Draft } from "../src/session/draft";
import type { Type } from "../src/shared/api";

const item: Type = { form: "enum", enum: { name: "Item", values: ["flare", "patch"] } };
const int: Type = { form: "int", low: 3, high: 9 };
const real: Type = { form: "real", low: -200, high: 200, per: 2, unit: 1 };
const vec: Type = { form: "vec2", low: -9, high: 9, per: 1, unit: 1 };
const mark: Type = {
  form: "record",
  name: "Mark",
  fields: [
    { name: "at", type: vec },
    { name: "items", type: { form: "list", max: 3, of: item } },
  ],
};

test("each type begins with a value that the server takes", () => {
  const cases: [Type, unknown][] = [
    [item, "flare"],
    [int, 3],
    [real, 0],
    [{ form: "bool" }, false],
    [{ form: "text", max: 9 }, ""],
    [vec, [0, 0]],
    [{ form: "vec3" }, [0, 0, 0]],
    [{ form: "direction" }, [1, 0]],
    [{ form: "rotation" }, [0, 0, 0, 1]],
    [{ form: "ref", kinds: ["Crate"] }, null],
    [{ form: "client" }, null],
    [{ form: "kind", kinds: ["Crate", "Sled"] }, "Crate"],
    [{ form: "time", low: 100, high: 900 }, 100],
    [{ form: "instant" }, 0],
    [{ form: "list", max: 2, of: int }, []],
    [{ form: "map", max: 2, key: item, of: int }, []],
    [mark, { at: [0, 0], items: [] }],
  ];
  for (const [type, want] of cases) expect(valueOf(type, draftOf(type)), type.form).toEqual(want);
  expect(rangeOf(real)).toEqual([-100, 100]);
});

test("what is filled in comes to a value, part by part, and what is wrong goes as it stands", () => {
  const cases: [Type, Draft, unknown][] = [
    [int, "7", 7],
    [int, "many", "many"],
    [int, "", ""],
    [real, "1e400", "1e400"],
    [{ form: "bool" }, "true", true],
    [{ form: "text" }, "12", "12"],
    [{ form: "ref" }, "4023233417", 4023233417],
    [vec, ["1.5", "x"], [1.5, "x"]],
    [{ form: "list", max: 2, of: int }, ["3", "4"], [3, 4]],
    [{ form: "map", max: 2, key: item, of: int }, [["patch", "5"]], [["patch", 5]]],
    [mark, { at: ["1", "2"], items: ["patch", "flare"] }, { at: [1, 2], items: ["patch", "flare"] }],
    [mark, { at: ["1", "2"] }, { at: [1, 2], items: [] }],
  ];
  for (const [type, draft, want] of cases) expect(valueOf(type, draft)).toEqual(want);
});
