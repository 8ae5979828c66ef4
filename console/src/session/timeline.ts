// One ordered list of what happened on every side: requests and decisions, events, who came and went, and faults.

import type { Client, Decision, Fault, LogLine, Outcome, Refused, Told } from "../shared/api";
import { keyOf } from "./flow";
import type { State } from "./watch";

export type Sort = "request" | "event" | "coming" | "log" | "fault";

// Entry is one line. Each has a tick and a side: a client, or the server.
export type Entry = { key: string; tick: number; side: Client | undefined } & (
  | { sort: "request"; decision: Decision }
  | { sort: "event"; told: Told }
  | { sort: "coming"; came: boolean }
  | { sort: "log"; log: LogLine }
  | { sort: "refused"; refused: Refused }
  | { sort: "fault"; fault: Fault }
);

// Within a tick the server lets clients in, decides, and then tells: no line comes before what it came from.
function orderOf(e: Entry): number {
  if (e.sort === "coming") return e.came ? 0 : 4;
  return { request: 1, refused: 1, fault: 2, event: 3, log: 3 }[e.sort];
}

// entriesOf lists what the page knows of, the newest first. With an outcome, of requests those that came to it, alone.
export function entriesOf(s: State, sorts: Set<Sort>, outcome?: Outcome): Entry[] {
  const out: Entry[] = [];
  if (sorts.has("request")) {
    for (const d of s.decisions)
      if (!outcome || d.outcome === outcome)
        out.push({ key: keyOf(d), tick: d.tick, side: d.client, sort: "request", decision: d });
    s.refused.forEach((r, i) => {
      if (!outcome || r.outcome === outcome)
        out.push({
          key: `refused ${r.client.number}/${r.tick}/${r.property}/${s.refused.length - i}`,
          tick: r.tick,
          side: r.client,
          sort: "refused",
          refused: r,
        });
    });
  }
  if (outcome) return sortedByTick(out);
  if (sorts.has("log"))
    for (const l of s.logs)
      out.push({ key: `log ${l.key}`, tick: l.tick, side: clientOf(s, l.side), sort: "log", log: l });
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
  return sortedByTick(out);
}

// sortedByTick puts the newest first. What stands in one list is so already, and stays in that order.
function sortedByTick(entries: Entry[]): Entry[] {
  return entries.sort((a, b) => b.tick - a.tick || orderOf(b) - orderOf(a));
}

// clientOf gives the client that a line is of, who may have left; nothing for the server.
function clientOf(s: State, number: number): Client | undefined {
  if (number === 0) return undefined;
  return s.columns.find((c) => c.number === number) ?? { number, name: `client ${number}`, role: "" };
}
