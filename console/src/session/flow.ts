// One action as a sequence: who asked, what the server decided, and when each client had what came of it.

import type { Change, Client, Decision } from "../shared/api";
import { format, kindOf, nameOf } from "./copy";
import type { State } from "./watch";

// Arrow leads from one lane to another, 0 being the server.
export type Arrow = {
  from: number;
  to: number;
  tick: number; // when it arrived; of what is under way, now
  sort: "request" | "decision" | "change" | "event";
  text: string;
  late: boolean; // it took more than lateTicks, or is under way for longer
  underWay: boolean;
};

// isKnown is false for an action from before the page was opened: when it arrived was not seen.
export type Flow = { decision: Decision; lanes: Client[]; arrows: Arrow[]; msPerTick: number; isKnown: boolean };

// lateTicks is how many ticks something may take to be confirmed before it is told as late.
export const lateTicks = 3;

export const keyOf = (d: Decision): string => `${d.client.number}/${d.seq}/${d.tick}`;

// flowOf puts an action together from what the page has seen of it.
export function flowOf(s: State, decision: Decision): Flow {
  const { outline } = s;
  const known = s.delivered.get(keyOf(decision));
  const isKnown = known !== undefined;
  const delivered = known ?? new Map<number, number>();
  const arrows: Arrow[] = [];
  const add = (sort: Arrow["sort"], client: number, text: string) => {
    const tick = isKnown ? delivered.get(client) : decision.tick;
    arrows.push({
      from: 0,
      to: client,
      tick: tick ?? s.tick,
      sort,
      text,
      late: (tick ?? s.tick) - decision.tick > lateTicks,
      underWay: tick === undefined,
    });
  };
  const args = decision.args.map((a) => (typeof a === "string" ? a : JSON.stringify(a))).join(", ");
  arrows.push({
    from: decision.client.number,
    to: 0,
    tick: decision.tick,
    sort: "request",
    text: `${decision.request}(${args})`,
    late: false,
    underWay: false,
  });
  const reason = decision.reason ? `: ${decision.reason}` : "";
  add("decision", decision.client.number, `${decision.outcome}${reason}`);
  for (const c of s.columns.filter((x) => x.from <= decision.tick || !isKnown || delivered.has(x.number))) {
    const changes = decision.changes.filter((change) => has(s, c.number, change));
    if (changes.length > 0 && outline) add("change", c.number, changes.map((x) => words(s, x)).join(", "));
  }
  for (const t of s.told.filter((x) => x.tick === decision.tick && decision.told.includes(x.event.event)))
    for (const client of t.clients) add("event", client, t.event.event);
  const numbers = [decision.client.number, ...arrows.flatMap((a) => [a.from, a.to])].filter((n) => n !== 0);
  const lanes = [...new Set(numbers)].map(
    (n) => s.columns.find((c) => c.number === n) ?? { number: n, name: decision.client.name, role: "" },
  );
  const order = { request: 0, decision: 1, change: 2, event: 3 };
  arrows.sort((a, b) => a.tick - b.tick || order[a.sort] - order[b.sort]);
  return { decision, lanes, arrows, msPerTick: 1000 / (outline?.tick ?? 1), isKnown };
}

// has tells whether a client has the property that changed.
function has(s: State, client: number, change: Change): boolean {
  const thing = s.columns.find((c) => c.number === client)?.copy.things.get(change.entity);
  return thing !== undefined && change.property in thing.values;
}

function words(s: State, c: Change): string {
  const type =
    s.outline && kindOf(s.outline, { ...c, values: {} })?.properties.find((p) => p.name === c.property)?.type;
  return `${nameOf(s.server.clients, c)}.${c.property} ${format(type, c.old)} → ${format(type, c.new)}`;
}

// mermaid writes a flow as a sequence diagram in Mermaid's text form.
export function mermaid(flow: Flow): string {
  const name = (n: number) => (n === 0 ? "Server" : (flow.lanes.find((l) => l.number === n)?.name ?? String(n)));
  const plain = (text: string) => text.replace(/[;#\n]/g, " ");
  const lines = ["sequenceDiagram"];
  lines.push(`  participant C${flow.decision.client.number} as ${name(flow.decision.client.number)}`);
  lines.push("  participant S as Server");
  for (const l of flow.lanes.slice(1)) lines.push(`  participant C${l.number} as ${l.name}`);
  for (const a of flow.arrows) {
    const side = (n: number) => (n === 0 ? "S" : `C${n}`);
    const ms = Math.round((a.tick - flow.decision.tick) * flow.msPerTick);
    const when = a.underWay ? "under way" : `tick ${a.tick}, ${ms} ms`;
    lines.push(`  ${side(a.from)}${a.sort === "request" ? "->>" : "-->>"}${side(a.to)}: ${plain(a.text)} (${when})`);
  }
  return `${lines.join("\n")}\n`;
}
