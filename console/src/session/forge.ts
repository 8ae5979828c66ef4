// What a cheater would send in place of a request that is in order.

import type { Param, RequestOutline, Type } from "../shared/api";
import { draftOf, rangeOf, valueOf } from "./draft";

// Asking is a request as it is sent: on an entity, with its values.
export type Asking = { entity: number; args: unknown[] };

// Forgery is one thing that a cheater would send, so many times at once.
export type Forgery = Asking & { words: string; times: number };

// A request without a limit is sent this often at once, and none oftener than most.
const often = 20;
const most = 60;

// forgeriesOf lists what can be forged of a request: whom it is asked of, its values, and how often. foreign is an
// entity of another client's, absent a number that no entity has.
export function forgeriesOf(
  request: RequestOutline,
  honest: Asking,
  entities: { foreign?: number; absent: number },
): Forgery[] {
  const out: Forgery[] = [];
  const add = (words: string, other: Partial<Asking & { times: number }>) =>
    out.push({ ...honest, times: 1, words, ...other });
  if (entities.foreign !== undefined && request.from === "owner") add("on another's", { entity: entities.foreign });
  add("on what is not there", { entity: entities.absent });
  request.params.forEach((p, i) => {
    for (const [words, value] of wrongValues(p, entities.absent)) add(words, { args: honest.args.with(i, value) });
  });
  if (request.params.length > 0) add("a value too few", { args: honest.args.slice(0, -1) });
  add("a value too many", { args: [...honest.args, 0] });
  add("twice at once", { times: 2 });
  const times = request.limit ? Math.min(request.limit + 1, most) : often;
  add(`${times} times at once`, { times });
  return out;
}

// wrongValues gives values that a parameter does not have, and how each is wrong.
function wrongValues({ name, type }: Param, absent: number): [string, unknown][] {
  const [low, high] = rangeOf(type);
  const step = (type.unit ?? 1) / (type.per ?? 1);
  switch (type.form) {
    case "int":
    case "real":
    case "time":
      return [
        [`${name} below its range`, low - step],
        [`${name} above its range`, high + step],
        [`${name} a text`, "many"],
      ];
    case "vec2":
    case "vec3":
      return [
        [`${name} outside its range`, (valueOf(type, draftOf(type)) as number[]).map(() => high + step)],
        [`${name} one number`, 0],
      ];
    case "enum":
    case "kind":
      return [
        [`${name} a name that is none`, "none of these"],
        [`${name} a number`, 0],
      ];
    case "text":
      return [[`${name} too long`, "x".repeat((type.max ?? 0) + 1)]];
    case "list":
      return [[`${name} too long`, Array((type.max ?? 0) + 1).fill(plain(type.of))]];
    case "ref":
      return [[`${name} what is not there`, absent]];
    default:
      return [[`${name} of another type`, "many"]];
  }
}

function plain(type: Type | undefined): unknown {
  return type ? valueOf(type, draftOf(type)) : 0;
}
