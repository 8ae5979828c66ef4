// Which rows the sheet has, and in which order: one for each property of each entity, after what the reader wants.

import type { Outline, Property } from "../shared/api";
import { nameOf, present, stale, things, type Thing } from "./copy";
import type { State } from "./watch";

// Row is one line of the sheet. Without a property it is the owner's row of an entity, or stands for all of a kind.
export type Row = {
  key: string; // entity/property, or the kind's name
  thing?: Thing; // none for a kind that is folded
  name: string; // of the entity, as Ana.Diver, or the kind's
  property?: Property;
  first: boolean; // it is the first row of its entity
  gone?: boolean; // only clients have the entity any more
  folded?: number; // how many entities of the kind are not shown one by one
  pinned?: boolean;
};

// View is what a reader asks to see. All of it stands in the page's address.
export type View = {
  text: string; // words that a row has to have in its entity, kind or property; owner:bo asks for one of these
  only: "" | "differs" | "changed";
  near: number; // the entity that others are sorted by their distance from, 0 for none
  folded: Set<string>; // kinds
  pinned: Set<string>; // keys of rows
};

// recentSeconds is how long ago a value may have changed that `changed` still shows.
export const recentSeconds = 5;

// rowsOf lists the rows of a view.
export function rowsOf(s: State, view: View): Row[] {
  const { outline } = s;
  if (!outline) return [];
  const pinned: Row[] = [];
  const out: Row[] = [];
  const folded = new Map<string, number>();
  const wanted = matcher(view.text);
  const kinds = new Map(outline.kinds.map((k) => [k.name, k]));
  const add = (thing: Thing, gone: boolean) => {
    const kind = kinds.get(thing.kind);
    if (!kind) return;
    if (view.folded.has(kind.name)) {
      folded.set(kind.name, (folded.get(kind.name) ?? 0) + 1);
      if (folded.get(kind.name) === 1) out.push({ key: kind.name, name: kind.name, first: true });
      return;
    }
    const name = nameOf(s.server.clients, thing);
    const owner = name.slice(0, name.indexOf("."));
    let first = true;
    const push = (property?: Property) => {
      const key = `${thing.entity}/${property?.name ?? ""}`;
      if (!wanted({ name, kind: kind.name, owner, property: property?.name ?? "owner" })) return;
      if (!isShown(s, view.only, thing.entity, property?.name ?? "")) return;
      const row: Row = { key, thing, name, property, first, gone };
      if (view.pinned.has(key)) pinned.push({ ...row, first: true, pinned: true });
      else {
        out.push(row);
        first = false;
      }
    };
    if (s.columns.some((c) => c.apart.get(thing.entity)?.has(""))) push();
    if (!gone) for (const p of kind.properties) push(p);
  };
  for (const thing of sorted(s, outline, view.near)) add(thing, false);
  for (const thing of stale(s.server, s.columns)) add(thing, true);
  for (const row of out) if (!row.thing) row.folded = folded.get(row.key);
  return [...pinned, ...out];
}

// lister returns rowsOf with a memory. A view that follows values is listed anew with each message, any other one when
// which entities there are has changed.
export function lister(): (s: State, view: View) => Row[] {
  let last: { view: View; outline?: Outline; when: number; rows: Row[] } | undefined;
  return (s, view) => {
    const when = view.only !== "" || view.near !== 0 ? s.turn : s.structure;
    if (last?.view !== view || last.outline !== s.outline || last.when !== when)
      last = { view, outline: s.outline, when, rows: rowsOf(s, view) };
    return last.rows;
  };
}

function isShown(s: State, only: View["only"], entity: number, name: string): boolean {
  if (only === "differs") return s.columns.some((c) => c.apart.get(entity)?.has(name));
  if (only === "changed") {
    const tick = s.changed.get(entity)?.get(name);
    return tick !== undefined && s.tick - tick <= recentSeconds * (s.outline?.tick ?? 1);
  }
  return true;
}

type Words = { name: string; kind: string; owner: string; property: string };

// matcher reads the words of a filter. A row has to have all of them; case does not count.
function matcher(text: string): (row: Words) => boolean {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const has = (where: string, word: string) => where.toLowerCase().includes(word);
  return (row) =>
    words.every((word) => {
      const [field, rest] = word.split(":", 2) as [string, string | undefined];
      if (rest !== undefined && (field === "owner" || field === "kind" || field === "property"))
        return has(row[field], rest);
      return has(row.name, word) || has(row.kind, word) || has(row.property, word);
    });
}

// sorted gives what the server holds: by kind, owner and number, or by how far it is from an entity.
function sorted(s: State, outline: Outline, near: number): Thing[] {
  const all = things(s.server);
  const center = near ? placeOf(s, outline, s.server.things.get(near)) : undefined;
  if (!center) return all;
  const distances = new Map(all.map((t) => [t.entity, distance(center, placeOf(s, outline, t))]));
  return all.sort((a, b) => (distances.get(a.entity) as number) - (distances.get(b.entity) as number));
}

// placeOf gives where the server has an entity now, if it has a place.
export function placeOf(s: State, outline: Outline, thing: Thing | undefined): number[] | undefined {
  const property = outline.kinds.find((k) => k.name === thing?.kind)?.properties.find((p) => p.name === "pos");
  if (!thing || !property) return undefined;
  const place = present(outline, s.server, thing, property, s.tick);
  return Array.isArray(place) ? (place as number[]) : undefined;
}

function distance(a: number[], b: number[] | undefined): number {
  if (!b) return Infinity; // what has no place comes last
  return Math.hypot(...a.map((x, i) => x - (b[i] ?? 0)));
}

// viewOf reads a view from the parameters of an address.
export function viewOf(params: URLSearchParams): View {
  const only = params.get("only");
  const list = (name: string) => new Set((params.get(name) ?? "").split(",").filter(Boolean));
  return {
    text: params.get("find") ?? "",
    only: only === "differs" || only === "changed" ? only : "",
    near: Number(params.get("near")) || 0,
    folded: list("folded"),
    pinned: list("pinned"),
  };
}

// paramsOf writes a view into the parameters of an address; what is as at first is left out.
export function paramsOf(view: View, params: URLSearchParams): URLSearchParams {
  const out = new URLSearchParams(params);
  const put = (name: string, value: string) => (value ? out.set(name, value) : out.delete(name));
  put("find", view.text);
  put("only", view.only);
  put("near", view.near ? String(view.near) : "");
  put("folded", [...view.folded].join(","));
  put("pinned", [...view.pinned].join(","));
  return out;
}
