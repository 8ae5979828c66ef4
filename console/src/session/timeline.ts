// One ordered list of what happened on every side: requests and decisions, events, who came and went, and faults.

import type { Client, Decision, Fault, Told } from "../shared/api";
import { keyOf } from "./flow";
import type { State } from "./watch";

export type Sort = "request" | "event" | "coming" | "fault";

// Entry is one line. Each has a tick and a side: a client, or the server.
export type Entry = { key: string; tick: number; side: Client | undefined } & (
  | { sort: "request"; decision: Decision }
  | { sort: "event"; told: Told }
  | { sort: "coming"; came: boolean }
  | { sort: "fault"; fault: Fault }
);

// Within a tick the server lets clients in, decides, and then tells: no line comes before what it came from.
function orderOf(e: Entry): number {
  if (e.sort === "coming") return e.came ? 0 : 4;
  return { request: 1, fault: 2, event: 3 }[e.sort];
}

// entriesOf lists what the page knows of, the newest first.
export function entriesOf(s: State, sorts: Set<Sort>): Entry[] {
  const out: Entry[] = [];
  if (sorts.has("request"))
    for (const d of s.decisions)
      out.push({ key: keyOf(d), tick: d.tick, side: d.client, sort: "request", decision: d });
  if (sorts.has("event"))
    for (const t of s.told) out.push({ key: `event ${t.key}`, tick: t.tick, side: undefined, sort: "event", told: t });
  if (sorts.has("coming"))
    for (const c of s.comings)
      out.push({
        key: `${c.came ? "came" : "left"} ${c.client.number}/${c.tick}`,
        tick: c.tick,
        side: c.client,
        sort: "coming",
        came: c.came,
      });
  if (sorts.has("fault"))
    for (const f of s.faults?.last ?? [])
      out.push({
        key: `fault ${f.in}/${f.file}/${f.line}/${f.reason}`,
        tick: f.tick,
        side: undefined,
        sort: "fault",
        fault: f,
      });
  // What stands in one list is there the newest first already, and stays in that order.
  return out.sort((a, b) => b.tick - a.tick || orderOf(b) - orderOf(a));
}
