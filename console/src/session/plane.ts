// The plane that the map draws: what has a place, where it is on the screen, and what stands under a pointer.

import type { Outline, Type } from "../shared/api";
import { nameOf, present, things, type Copy, type Thing } from "./copy";
import type { Column, State } from "./watch";

export type Point = [x: number, y: number];

// Plane says which place is in the middle of the screen, and how many pixels a unit takes. Up on the screen is up in
// the world.
export type Plane = { middle: Point; scale: number };
export type Size = { width: number; height: number };

export function toScreen(plane: Plane, size: Size, [x, y]: Point): Point {
  return [size.width / 2 + (x - plane.middle[0]) * plane.scale, size.height / 2 - (y - plane.middle[1]) * plane.scale];
}

export function toWorld(plane: Plane, size: Size, [x, y]: Point): Point {
  return [plane.middle[0] + (x - size.width / 2) / plane.scale, plane.middle[1] - (y - size.height / 2) / plane.scale];
}

const leastScale = 1e-12; // of a world as wide as its numbers go

// zoomed zooms by a factor; what is at a point of the screen stays there.
export function zoomed(plane: Plane, size: Size, at: Point, factor: number): Plane {
  const scale = Math.min(Math.max(plane.scale * factor, leastScale), 1e4);
  const [x, y] = toWorld(plane, size, at);
  const middle: Point = [x - (at[0] - size.width / 2) / scale, y + (at[1] - size.height / 2) / scale];
  return { middle, scale };
}

// fitted gives the plane that shows all of some places, with a margin.
export function fitted(places: Point[], size: Size): Plane {
  if (places.length === 0) return { middle: [0, 0], scale: 10 };
  const xs = places.map((p) => p[0]);
  const ys = places.map((p) => p[1]);
  const [left, right, low, high] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
  const margin = 48;
  const scale = Math.min(
    (size.width - 2 * margin) / Math.max(right - left, 1),
    (size.height - 2 * margin) / Math.max(high - low, 1),
    40,
  );
  return { middle: [(left + right) / 2, (low + high) / 2], scale: Math.max(scale, leastScale) };
}

// gridStep gives how far the lines of the grid are from each other: 1, 2 or 5 times a power of ten, at least 40 pixels.
export function gridStep(scale: number): number {
  const least = 40 / scale;
  const power = 10 ** Math.floor(Math.log10(least));
  return ([1, 2, 5, 10].find((n) => n * power >= least) ?? 10) * power;
}

// Spot is an entity that has a place.
export type Spot = {
  entity: number;
  name: string;
  kind: string;
  owner: number;
  at: Point;
  height?: number; // the third part of a place in space, which is seen from above
  rate?: Point; // how far it moves in a second, until something changes that
  held?: Point; // where the picked client has it, when that is another place
  hidden: boolean; // the picked client does not have its place
  copies?: { number: number; at: Point; rate?: Point }[]; // where each client has it, when all are asked for
  writes?: { property: string; type: Type }; // its owner may write where it is
};

// spotsOf lists what the server has a place of, and how a client that is picked stands to it, or each client.
export function spotsOf(s: State, picked: Column | undefined, all = false): Spot[] {
  const { outline } = s;
  if (!outline) return [];
  return things(s.server).flatMap((thing) => {
    const place = placed(outline, s.server, thing, s.tick);
    if (!place) return [];
    const other = picked?.copy.things.get(thing.entity);
    const theirs = picked && other ? placed(outline, picked.copy, other, s.tick) : undefined;
    const copies = all
      ? s.columns.flatMap((c) => {
          const held = c.copy.things.get(thing.entity);
          const there = held && placed(outline, c.copy, held, s.tick);
          return there ? [{ number: c.number, at: there.at, rate: there.rate }] : [];
        })
      : undefined;
    const apart = theirs && (theirs.at[0] !== place.at[0] || theirs.at[1] !== place.at[1]);
    return [
      {
        entity: thing.entity,
        name: nameOf(s.server.clients, thing),
        kind: thing.kind,
        owner: thing.owner,
        ...place,
        copies,
        held: apart ? theirs.at : undefined,
        hidden: picked !== undefined && !theirs,
      },
    ];
  });
}

type Placed = Pick<Spot, "at" | "height" | "rate" | "writes">;

// placed gives where a side has an entity: by `pos`, or the first property that is a place.
function placed(outline: Outline, copy: Copy, thing: Thing, tick: number): Placed | undefined {
  const properties = outline.kinds.find((k) => k.name === thing.kind)?.properties ?? [];
  const places = properties.filter((p) => p.type.form === "vec2" || p.type.form === "vec3");
  const property = places.find((p) => p.name === "pos") ?? places.find((p) => !p.follows && p.name.endsWith("pos"));
  if (!property || !(property.name in thing.values)) return undefined;
  const now = present(outline, copy, thing, property, tick) as number[];
  if (!Array.isArray(now)) return undefined;
  const value = thing.values[property.name];
  const moving = value !== null && typeof value === "object" && "rate" in value ? (value.rate as number[]) : undefined;
  const flat = (v: number[]): Point => [v[0] ?? 0, v[1] ?? 0];
  const rate = moving?.some((v) => v !== 0) ? flat(moving) : undefined;
  const writes =
    property.set_by && property.type.form === "vec2"
      ? { property: `${thing.kind}.${property.name}`, type: property.type }
      : undefined;
  return { at: flat(now), height: now[2], rate, writes };
}

// Range is how near a client has to be for an audience: a circle around its own entity.
export type Range = { words: string; middle: Point; radius: number };

// rangesOf lists the ranges of a client that is picked.
export function rangesOf(s: State, picked: Column): Range[] {
  const { outline } = s;
  return (outline?.ranges ?? []).flatMap((r) => {
    const own = things(s.server).find((t) => t.kind === r.kind && t.owner === picked.number);
    const property = outline?.kinds.find((k) => k.name === r.kind)?.properties.find((p) => p.name === r.property);
    if (!outline || !own || !property) return [];
    const at = present(outline, s.server, own, property, s.tick);
    if (!Array.isArray(at)) return [];
    return [{ words: `${r.audience}: within ${r.radius}`, middle: [at[0], at[1]] as Point, radius: r.radius }];
  });
}

// Segment is a wall from one place to another.
export type Segment = [from: Point, to: Point];

// wallsOf lists the walls among the constants, those that clients get and those that they do not: lists of records that
// begin with two places.
export function wallsOf(outline: Outline): Segment[] {
  return [...(outline.constants ?? []), ...(outline.walls ?? [])].flatMap((c) => {
    const [a, b] = c.type.of?.fields ?? [];
    if (c.type.form !== "list" || a?.type.form !== "vec2" || b?.type.form !== "vec2") return [];
    return (c.value as Record<string, Point>[]).map((r): Segment => [r[a.name] as Point, r[b.name] as Point]);
  });
}

// underPointer gives the spot that is nearest to a point of the screen, if one is near.
export function underPointer(spots: Spot[], plane: Plane, size: Size, at: Point): Spot | undefined {
  let best: Spot | undefined;
  let least = 14; // px
  for (const spot of spots) {
    const [x, y] = toScreen(plane, size, spot.at);
    const away = Math.hypot(x - at[0], y - at[1]);
    if (away < least) {
      best = spot;
      least = away;
    }
  }
  return best;
}
