// What one side holds of a session, made from frames alone; and how a client's copy compares with the server's.

import equal from "fast-deep-equal";
import type { Client, Frame, Kind, Outline, Property, Type, Update } from "../shared/api";

// Thing is an entity as a copy has it. withdrawn are properties that it had and has not any more.
export type Thing = {
  entity: number;
  kind: string;
  owner: number;
  values: Record<string, unknown>;
  withdrawn?: Set<string>;
};
export type Copy = { tick: number; clients: Client[]; things: Map<number, Thing> };

// Touched is what frames have changed of a copy: everything, whole entities, or what updates name. The updates are
// those of the frames, which many copies share.
export type Touched = { all: boolean; entities: Set<number>; updates: Update[] };

export function emptyCopy(): Copy {
  return { tick: 0, clients: [], things: new Map() };
}

export function nothingTouched(): Touched {
  return { all: false, entities: new Set(), updates: [] };
}

// apply brings a copy to a frame's tick: the parts are applied across all blocks in the order joins, spawns, owners,
// values, what is gone, leaves.
export function apply(copy: Copy, frame: Frame, touched = nothingTouched()): Touched {
  // A moment is played from a sheet that may hold what the messages after it tell once more.
  if (!frame.snapshot && frame.tick <= copy.tick) return touched;
  if (frame.snapshot) {
    copy.clients = [];
    copy.things.clear();
    touched.all = true;
  }
  copy.tick = frame.tick;
  const blocks = frame.state ?? [];
  for (const b of blocks)
    for (const c of b.joined ?? []) copy.clients = [...copy.clients.filter((x) => x.number !== c.number), c];
  for (const b of blocks)
    for (const s of b.spawned ?? []) {
      copy.things.set(s.entity, { ...s, values: { ...s.values } });
      touched.entities.add(s.entity);
    }
  for (const b of blocks)
    for (const o of b.owned ?? []) {
      const thing = copy.things.get(o.entity);
      if (thing) thing.owner = o.owner;
      touched.entities.add(o.entity);
    }
  for (const b of blocks)
    for (const u of b.values ?? []) {
      const thing = copy.things.get(u.entity);
      if (!thing) continue;
      for (const name of u.withdrawn ?? []) {
        delete thing.values[name];
        (thing.withdrawn ??= new Set()).add(name);
      }
      Object.assign(thing.values, u.values);
      if (thing.withdrawn) for (const name in u.values) thing.withdrawn.delete(name);
      touched.updates.push(u);
    }
  for (const b of blocks) {
    for (const n of b.gone ?? []) {
      copy.things.delete(n);
      touched.entities.add(n);
    }
    for (const n of b.left ?? []) copy.clients = copy.clients.filter((x) => x.number !== n);
  }
  return touched;
}

// things gives what a copy holds, by kind, owner and number.
export function things(copy: Copy): Thing[] {
  const by = (a: Thing, b: Thing) =>
    a.kind < b.kind ? -1 : a.kind > b.kind ? 1 : a.owner - b.owner || a.entity - b.entity;
  return [...copy.things.values()].sort(by);
}

export function nameOf(clients: Client[], thing: { kind: string; owner: number }): string {
  if (thing.owner === 0) return thing.kind;
  const owner = clients.find((c) => c.number === thing.owner);
  return `${owner?.name ?? thing.owner}.${thing.kind}`;
}

// Standing is how a value of a client's copy stands to the server's: the same, not for this client, never to be there,
// or apart, which is late as long as something is on its way to the client, and different after that.
export type Standing = "=" | "–" | "≠" | "apart";

// Holder is a client with its copy. waits is the tick of the oldest frame that it has not confirmed.
export type Holder = { number: number; waits?: number; copy: Copy };

// standingOf compares what a client holds of a property with what the server holds.
export function standingOf(kind: Kind, client: Holder, truth: Thing, property: Property): Standing {
  const held = client.copy.things.get(truth.entity)?.values;
  const has = held !== undefined && property.name in held;
  const audience = audienceOf(kind, property);
  if (!has && audience.unknown) return "–";
  if (audience.nobody || (audience.owner && truth.owner !== client.number)) return has ? "≠" : "–";
  return has && same(held[property.name], truth.values[property.name]) ? "=" : "apart";
}

// Audience is what is known here of who gets a property, with its entity. Whether any other audience holds a client
// only the server can tell: what the client has not, it is taken not to get.
type Audience = { nobody: boolean; owner: boolean; unknown: boolean };

// audienceOf gives a property's audience. It is asked for each value that a frame touches, and therefore kept.
function audienceOf(kind: Kind, property: Property): Audience {
  let out = audiences.get(property);
  if (!out) {
    const to = [kind.to, property.to];
    out = {
      nobody: to.includes("nobody"),
      owner: to.includes("owner"),
      unknown: to.some((x) => x !== "everyone" && x !== "owner" && x !== "nobody"),
    };
    audiences.set(property, out);
  }
  return out;
}

const audiences = new WeakMap<Property, Audience>();

// standingOfOwner compares whose a client takes an entity to be, where the entity itself is not as on the server: it
// has another owner there, is gone, is not for this client, or is missing and has no properties that would show that.
export function standingOfOwner(kind: Kind, client: Holder, truth: Thing, gone: boolean): Standing {
  const hidden = kind.to === "nobody" || (kind.to === "owner" && truth.owner !== client.number);
  const held = client.copy.things.get(truth.entity);
  if (!held) return gone || hidden || kind.to !== "everyone" || kind.properties.length > 0 ? "=" : "apart";
  return !gone && !hidden && held.owner === truth.owner ? "=" : "apart";
}

export type Cell = { text: string; sign: "=" | "late" | "≠" | "–" | "∅"; behind: number };

// signOf words a standing at a tick.
export function signOf(standing: Standing, client: Holder, tick: number): Pick<Cell, "sign" | "behind"> {
  if (standing !== "apart") return { sign: standing, behind: 0 };
  return client.waits ? { sign: "late", behind: tick - client.waits + 1 } : { sign: "≠", behind: 0 };
}

// compare words what a client holds of a property beside what the server holds.
export function compare(outline: Outline, client: Holder, truth: Thing, property: Property, tick: number): Cell {
  const standing = standingOf(kindOf(outline, truth), client, truth, property);
  const held = client.copy.things.get(truth.entity);
  const has = held !== undefined && property.name in held.values;
  const text = has ? format(property.type, present(outline, client.copy, held, property, tick)) : "";
  return { text, ...signOf(standing, client, tick) };
}

// compareOwner words whose a client takes an entity to be, where that is not as on the server: see standingOfOwner.
export function compareOwner(
  outline: Outline,
  client: Holder,
  truth: Thing,
  gone: boolean,
  tick: number,
): Cell | undefined {
  const standing = standingOfOwner(kindOf(outline, truth), client, truth, gone);
  if (standing === "=") return undefined;
  const held = client.copy.things.get(truth.entity);
  const text = held ? ownerName(client.copy.clients, held) : "";
  return { text, ...signOf(standing, client, tick) };
}

export function kindOf(outline: Outline, thing: Thing): Kind {
  return outline.kinds.find((k) => k.name === thing.kind) as Kind;
}

export function ownerName(clients: Client[], thing: { owner: number }): string {
  if (thing.owner === 0) return "server";
  return clients.find((c) => c.number === thing.owner)?.name ?? `${thing.owner}`;
}

// stale gives what clients hold that the server does not have any more, by number.
export function stale(server: Copy, columns: { copy: Copy }[]): Thing[] {
  const out = new Map<number, Thing>();
  for (const c of columns)
    for (const t of c.copy.things.values()) if (!server.things.has(t.entity)) out.set(t.entity, t);
  return [...out.values()].sort((a, b) => a.entity - b.entity);
}

// A motion says where something was at a tick, and by how much it moves a second; while that holds nothing is sent.
// What is attached is where another entity's property is, and was at `is` when it was sent.
type Motion = { from: number | number[]; rate: number | number[]; at: number };
type Attached = { attached: string; by?: number[]; is: number | number[] };

// same tells whether two values say the same: of what is attached, to what.
export function same(a: unknown, b: unknown): boolean {
  if (a === b) return true;
  if (isAttached(a) && isAttached(b)) return a.attached === b.attached && equal(a.by, b.by);
  return equal(a, b);
}

function isAttached(v: unknown): v is Attached {
  return v !== null && typeof v === "object" && "attached" in v;
}

// near gives the nearest step of a type, ties to the even one, within its range.
function near(type: Type, v: number): number {
  const [per, unit] = [type.per || 1, type.unit || 1];
  const steps = (v * per) / unit;
  const up = Math.round(steps);
  const whole = up - steps === 0.5 && up % 2 !== 0 ? up - 1 : up;
  return (Math.min(Math.max(whole, type.low ?? 0), type.high ?? 0) * unit) / per;
}

// present gives what a copy holds of a property at a tick: what moves or is attached is computed.
export function present(outline: Outline, copy: Copy, thing: Thing, property: Property, tick: number): unknown {
  const value = thing.values[property.name];
  if (value === null || typeof value !== "object") return value;
  if ("from" in value) return moved(property.type, value as Motion, { tick, rate: outline.tick });
  if (!("attached" in value)) return value;
  const tie = value as Attached;
  const [ref = "", name = ""] = tie.attached.split(".");
  const holder = copy.things.get(thing.values[ref] as number);
  const to = outline.kinds.find((k) => k.name === holder?.kind)?.properties.find((p) => p.name === name);
  if (!holder || !to || (to.name === property.name && holder === thing)) return tie.is;
  const base = present(outline, copy, holder, to, tick);
  if (Array.isArray(base)) return base.map((v: number, i) => near(property.type, v + (tie.by?.[i] ?? 0)));
  return near(property.type, (base as number) + (tie.by?.[0] ?? 0));
}

// moved tells where a motion has led to at a tick: on the nearest step, ties to the even one, within the range.
export function moved(type: Type, m: Motion, moment: { tick: number; rate: number }): number | number[] {
  const seconds = (moment.tick - m.at) / moment.rate;
  const one = (from: number, rate: number) => near(type, from + rate * seconds);
  return Array.isArray(m.from)
    ? m.from.map((from, i) => one(from, (m.rate as number[])[i] ?? 0))
    : one(m.from, m.rate as number);
}

// format words a value for people.
export function format(type: Type | undefined, value: unknown): string {
  if (value === null) return "nothing";
  if (type?.form === "vec2" || type?.form === "vec3") return `(${(value as number[]).join(", ")})`;
  if (type?.form === "stacks") {
    const stacks = value as ([string, number] | null)[];
    const slot = (i: number) => (type.slotted ? `${i}:\u00a0` : "");
    const words = stacks.map((s, i) => (s ? `${slot(i)}${s[1]}\u00a0${s[0]}` : "")).filter((w) => w !== "");
    return words.length === 0 ? "empty" : words.join(", ");
  }
  if (type?.form === "enum" || type === undefined) return String(value);
  const row = (parts: string[]) => parts.join(", ");
  if (type.form === "list") return `[${row((value as unknown[]).map((v) => format(type.of, v)))}]`;
  if (type.form === "map") {
    const pairs = value as [unknown, unknown][];
    return `[${row(pairs.map(([k, v]) => `${format(type.key, k)}: ${format(type.of, v)}`))}]`;
  }
  if (type.form === "record") {
    const held = value as Record<string, unknown>;
    return `(${row((type.fields ?? []).map((f) => `${f.name} ${format(f.type, held[f.name])}`))})`;
  }
  return JSON.stringify(value);
}
