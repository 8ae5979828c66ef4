// What stands in the fields of an argument before it is sent, and the value that it comes to.

import type { Type } from "../shared/api";

// Draft is what is filled in: a text for a single value, and drafts of the parts of one that has several.
export type Draft = string | Draft[] | { [field: string]: Draft };

// draftOf gives what an argument begins with: what is nearest to 0, the first value, nothing.
export function draftOf(type: Type): Draft {
  switch (type.form) {
    case "enum":
      return type.enum?.values[0] ?? "";
    case "bool":
      return "false";
    case "kind":
      return type.kinds?.[0] ?? "";
    case "ref":
    case "client":
      return "null";
    case "vec2":
      return ["0", "0"];
    case "vec3":
      return ["0", "0", "0"];
    case "direction":
      return ["1", "0"];
    case "rotation":
      return ["0", "0", "0", "1"];
    case "list":
    case "map":
      return [];
    case "record":
      return Object.fromEntries((type.fields ?? []).map((f) => [f.name, draftOf(f.type)]));
    case "int":
    case "time":
    case "real": {
      const [low, high] = rangeOf(type);
      return String(Math.min(Math.max(0, low), high));
    }
    case "instant":
      return "0";
    default:
      return "";
  }
}

// valueOf gives the value of a draft. What is no number where one is wanted goes as it stands: the server tells what is
// wrong with it.
export function valueOf(type: Type, draft: Draft): unknown {
  if (typeof draft === "string") return single(type, draft);
  if (Array.isArray(draft)) {
    if (type.form === "list" && type.of) return draft.map((d) => valueOf(type.of as Type, d));
    if (type.form === "map")
      return (draft as [Draft, Draft][]).map(([k, v]) => [valueOf(type.key as Type, k), valueOf(type.of as Type, v)]);
    return draft.map((d) => number(String(d)));
  }
  return Object.fromEntries(
    (type.fields ?? []).map((f) => [f.name, valueOf(f.type, draft[f.name] ?? draftOf(f.type))]),
  );
}

function single(type: Type, text: string): unknown {
  switch (type.form) {
    case "int":
    case "real":
    case "time":
    case "instant":
      return number(text);
    case "bool":
      return text === "true" ? true : text === "false" ? false : text;
    case "ref":
    case "client":
      return text === "null" ? null : number(text);
    default:
      return text;
  }
}

function number(text: string): unknown {
  const n = Number(text);
  return text.trim() !== "" && Number.isFinite(n) ? n : text;
}

// rangeOf gives the least and the greatest value of a number's type.
export function rangeOf(t: Type): [number, number] {
  const step = (t.unit ?? 1) / (t.per ?? 1);
  return [(t.low ?? 0) * step, (t.high ?? 0) * step];
}

// draftFrom gives the draft that comes to a value.
export function draftFrom(type: Type, value: unknown): Draft {
  switch (type.form) {
    case "list":
      return (value as unknown[]).map((v) => draftFrom(type.of as Type, v));
    case "map":
      return (value as [unknown, unknown][]).map(([k, v]) => [
        draftFrom(type.key as Type, k),
        draftFrom(type.of as Type, v),
      ]);
    case "record": {
      const held = value as Record<string, unknown>;
      return Object.fromEntries((type.fields ?? []).map((f) => [f.name, draftFrom(f.type, held[f.name])]));
    }
    case "vec2":
    case "vec3":
    case "direction":
    case "rotation":
      return (value as number[]).map(String);
  }
  return value === null ? "null" : String(value);
}

// nearestStep gives the value of a number's type that is nearest to a number, within its range.
export function nearestStep(t: Type, v: number): number {
  const [per, unit] = [t.per ?? 1, t.unit ?? 1];
  const steps = Math.min(Math.max(Math.round((v * per) / unit), t.low ?? -Infinity), t.high ?? Infinity);
  return (steps * unit) / per;
}
