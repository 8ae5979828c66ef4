// Which values clients hold otherwise than the server. It is kept up to date by what frames have touched, since to
// compare everything at each tick would take longer than a tick with many clients.

import type { Client, Kind, Outline, Property, Update } from "../shared/api";
import {
  kindOf,
  standingOf,
  standingOfOwner,
  type Copy,
  type Holder,
  type Standing,
  type Thing,
  type Touched,
} from "./copy";

// Apart is what of a client's copy is not as on the server: by entity and property, or an empty name for the entity
// itself. What is not in it is the same, or not for this client.
export type Apart = Map<number, Map<string, Standing>>;

// Truth is what the server holds, for who compares copies with it. What an update is about is looked up once and not
// for each of the clients that are sent the same update.
export type Truth = { outline: Outline; server: Copy; targets: Map<Update, Target | undefined> };
type Target = { truth: Thing; kind: Kind; properties: Property[] };

export function truthOf(outline: Outline, server: Copy): Truth {
  return { outline, server, targets: new Map() };
}

// targetOf gives what an update is about: nothing, when that is gone from the server, which is told as a whole.
function targetOf({ outline, server, targets }: Truth, u: Update): Target | undefined {
  if (targets.has(u)) return targets.get(u);
  const truth = server.things.get(u.entity);
  const kind = truth && kindOf(outline, truth);
  const isNamed = (p: Property) => p.name in u.values || !!u.withdrawn?.includes(p.name);
  const target = truth && kind && { truth, kind, properties: kind.properties.filter(isNamed) };
  targets.set(u, target);
  return target;
}

// recheck brings a client's Apart up to date after frames have touched the server's state, the client's copy, or both.
export function recheck(apart: Apart, truth: Truth, client: Holder, ...touched: Touched[]): void {
  const { server } = truth;
  if (touched.some((t) => t.all)) {
    apart.clear();
    for (const entity of server.things.keys()) recheckEntity(apart, truth, client, entity);
    for (const entity of client.copy.things.keys())
      if (!server.things.has(entity)) recheckEntity(apart, truth, client, entity);
    return;
  }
  for (const t of touched) {
    for (const u of t.updates) {
      const target = targetOf(truth, u);
      if (!target) continue;
      for (const property of target.properties)
        note(apart, u.entity, property.name, standingOf(target.kind, client, target.truth, property));
    }
    for (const entity of t.entities) recheckEntity(apart, truth, client, entity);
  }
}

function recheckEntity(apart: Apart, { outline, server }: Truth, client: Holder, entity: number): void {
  apart.delete(entity);
  const truth = server.things.get(entity);
  const thing = truth ?? client.copy.things.get(entity);
  if (!thing) return;
  const kind = kindOf(outline, thing);
  note(apart, entity, "", standingOfOwner(kind, client, thing, !truth));
  if (!truth) return;
  for (const property of kind.properties) note(apart, entity, property.name, standingOf(kind, client, truth, property));
}

function note(apart: Apart, entity: number, name: string, standing: Standing): void {
  const of = apart.get(entity);
  if (standing === "≠" || standing === "apart") {
    if (of) of.set(name, standing);
    else apart.set(entity, new Map([[name, standing]]));
  } else if (of?.delete(name) && of.size === 0) {
    apart.delete(entity);
  }
}

// rosterOf writes who is there as one text. What a copy holds is written once: another list is another array.
function rosterOf(copy: Copy): string {
  let text = rosters.get(copy.clients);
  if (text === undefined) {
    text = copy.clients
      .map((c) => `${c.number} ${c.role} ${c.name}`)
      .sort()
      .join("\n");
    rosters.set(copy.clients, text);
  }
  return text;
}

const rosters = new WeakMap<Client[], string>();

// knowsOthers tells whether a client takes the same clients to be there as the server does.
export function knowsOthers(server: Copy, client: Holder): boolean {
  return client.copy.tick === 0 || rosterOf(server) === rosterOf(client.copy);
}

type Counted = Holder & { apart: Apart };

// count says how many values clients hold otherwise than the server, and of how many others more is on its way. Who is
// there counts as one value.
export function count(server: Copy, columns: Counted[]): { different: number; late: number } {
  const out = { different: 0, late: 0 };
  for (const c of columns) if (!knowsOthers(server, c)) out[c.waits ? "late" : "different"]++;
  for (const c of columns)
    for (const of of c.apart.values())
      for (const standing of of.values()) {
        if (standing === "apart" && c.waits) out.late++;
        else out.different++;
      }
  return out;
}
