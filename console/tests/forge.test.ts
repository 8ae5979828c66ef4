// What the page offers to forge is wrong in the way that it says, and in no other.

import { expect, test } from "vitest";
import { forgeriesOf } from "../src/session/forge";
import type { RequestOutline } from "../src/shared/api";

const use: RequestOutline = {
  name: "use",
  params: [{ name: "item", type: { form: "enum", enum: { name: "Item", values: ["flare", "patch"] } } }],
  from: "owner",
  limit: 4,
  reasons: [],
};

test("whom a request is asked of, its values and how often are forged one at a time", () => {
  const got = forgeriesOf(use, { entity: 7, args: ["flare"] }, { foreign: 8, absent: 1 });
  expect(got).toEqual([
    { words: "on another's", entity: 8, args: ["flare"], times: 1 },
    { words: "on what is not there", entity: 1, args: ["flare"], times: 1 },
    { words: "item a name that is none", entity: 7, args: ["none of these"], times: 1 },
    { words: "item a number", entity: 7, args: [0], times: 1 },
    { words: "a value too few", entity: 7, args: [], times: 1 },
    { words: "a value too many", entity: 7, args: ["flare", 0], times: 1 },
    { words: "twice at once", entity: 7, args: ["flare"], times: 2 },
    { words: "5 times at once", entity: 7, args: ["flare"], times: 5 },
  ]);
});

test("what anybody may ask is not forged as another's, and each type is left in its own way", () => {
  const params = [
    { name: "count", type: { form: "int", low: 1, high: 5 } },
    { name: "depth", type: { form: "real", low: -200, high: 200, per: 2, unit: 1 } },
    { name: "at", type: { form: "vec2", low: -9, high: 9 } },
    { name: "words", type: { form: "text", max: 3 } },
    { name: "whom", type: { form: "ref", kinds: ["Diver"] } },
    { name: "list", type: { form: "list", max: 1, of: { form: "int", low: 2, high: 3 } } },
    { name: "sure", type: { form: "bool" } },
  ];
  const honest = { entity: 7, args: [1, 0, [0, 0], "", 7, [], false] };
  const got = forgeriesOf({ ...use, from: "player", limit: undefined, params }, honest, { foreign: 8, absent: 1 });
  const changed = got.flatMap((f) =>
    f.args.length === params.length
      ? f.args.flatMap((v, i) => (v === honest.args[i] ? [] : [[f.words, v] as const]))
      : [],
  );
  expect(changed).toEqual([
    ["count below its range", 0],
    ["count above its range", 6],
    ["count a text", "many"],
    ["depth below its range", -100.5],
    ["depth above its range", 100.5],
    ["depth a text", "many"],
    ["at outside its range", [10, 10]],
    ["at one number", 0],
    ["words too long", "xxxx"],
    ["whom what is not there", 1],
    ["list too long", [2, 2]],
    ["sure of another type", "many"],
  ]);
  expect(got.some((f) => f.words === "on another's")).toBe(false);
  expect(got.at(-1)).toMatchObject({ words: "20 times at once", times: 20 });
});
