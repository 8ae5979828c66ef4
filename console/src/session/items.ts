// The places of a value that holds several: what stands at each, and where two of them differ.

import type { Type } from "../shared/api";
import { format, same } from "./copy";

export type Item = { place: string; text: string };
export type Difference = { place: string; server: string; client: string };

// itemsOf lists what a list, map, stacks or record holds, place by place; nothing for a single value.
export function itemsOf(type: Type, value: unknown): Item[] {
  return partsOf(type, value).map(({ place, type: of, value: v }) => ({ place, text: format(of, v) }));
}

// differencesOf names the places at which two values differ. What only one of them has is empty on the other side.
export function differencesOf(type: Type, server: unknown, client: unknown): Difference[] {
  const [mine, others] = [partsOf(type, server), partsOf(type, client)];
  const there = new Map(others.map((p) => [p.place, p]));
  const out: Difference[] = [];
  for (const p of mine) {
    const other = there.get(p.place);
    there.delete(p.place);
    if (!other || !same(p.value, other.value))
      out.push({ place: p.place, server: format(p.type, p.value), client: other ? format(p.type, other.value) : "" });
  }
  for (const p of there.values()) out.push({ place: p.place, server: "", client: format(p.type, p.value) });
  return out;
}

type Part = { place: string; type: Type | undefined; value: unknown };

function partsOf(type: Type, value: unknown): Part[] {
  if (value === null || value === undefined) return [];
  switch (type.form) {
    case "list":
      return (value as unknown[]).map((v, i) => ({ place: `[${i}]`, type: type.of, value: v }));
    case "map":
      return (value as [unknown, unknown][]).map(([k, v]) => ({
        place: `[${format(type.key, k)}]`,
        type: type.of,
        value: v,
      }));
    case "stacks":
      return (value as ([string, number] | null)[]).flatMap((stack, i) =>
        stack ? [{ place: `[${i}]`, type: undefined, value: `${stack[1]}\u00a0${stack[0]}` }] : [],
      );
    case "record":
      return (type.fields ?? []).map((f) => ({
        place: `.${f.name}`,
        type: f.type,
        value: (value as Record<string, unknown>)[f.name],
      }));
    default:
      return [];
  }
}
