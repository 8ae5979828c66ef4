// The state of the session page: one WebSocket to the service, and what it told.

import { create } from "zustand";
import {
  api,
  message,
  type Decision,
  type Client,
  type Faults,
  type Outcome,
  type Outline,
  type Session,
  type Span,
  type Told,
  type Watch,
  type WatchClient,
} from "../shared/api";
import { recheck, type Apart } from "./apart";
import { keyOf } from "./flow";
import { apply, emptyCopy, nothingTouched, type Copy, type Touched } from "./copy";

// Column is a client. from is the tick in which the page first knew of it.
export type Column = WatchClient & { copy: Copy; apart: Apart; from: number };

export type State = {
  id: number;
  phase: "connecting" | "live" | "lost" | "closed" | "unknown";
  note: string;
  session?: Session;
  outline?: Outline;
  tick: number;
  server: Copy;
  columns: Column[];
  decisions: Decision[]; // the newest first
  comings: { tick: number; client: Client; came: boolean }[]; // the newest first
  faults?: Faults;
  delivered: Map<string, Map<number, number>>; // by decision and client: the tick in which it was confirmed
  outcomes: Record<Outcome, number>; // of the decisions since the page was opened
  told: (Told & { key: string })[];
  spans: Span[]; // the traffic of the last two minutes, the oldest first
  since: number; // the tick in which the page was opened: when older things arrived is not known
  turn: number; // counts what came, so that a changed copy is drawn
  structure: number; // counts changes of which entities there are, and whose
  changed: Map<number, Map<string, number>>; // by entity and property: the tick of the server's last change
};

// keep is how many of each, the newest, the page knows: decisions, events, and who came and went.
export const keep = 200;

// keptSpans is how many seconds of traffic the page knows.
const keptSpans = 120;

export const useWatch = create<State>(() => fresh(0));

// fresh is the state of a page that has not been told anything.
export function fresh(id: number): State {
  return {
    id,
    phase: "connecting",
    note: "",
    tick: 0,
    server: emptyCopy(),
    columns: [],
    decisions: [],
    delivered: new Map(),
    outcomes: { accepted: 0, denied: 0, dropped: 0, malformed: 0, faulted: 0 },
    told: [],
    spans: [],
    comings: [],
    since: 0,
    turn: 0,
    structure: 0,
    changed: new Map(),
  };
}

// take adds what one message told.
export function take(s: State, m: Watch): State {
  const next: State = { ...s, phase: "live", note: "", tick: m.tick, turn: s.turn + 1 };
  if (m.type === "sheet") {
    next.session = m.session;
    next.outline = m.outline;
    next.server = emptyCopy();
    next.columns = [];
    next.decisions = [];
    next.told = [];
    next.spans = [];
    next.comings = [];
    next.faults = m.session?.faults;
    next.changed = new Map();
    next.delivered = new Map();
    next.since = m.tick;
  }
  if (m.faults) next.faults = m.faults;
  if (m.traffic) next.spans = [...next.spans.slice(1 - keptSpans), m.traffic];
  const serverTouched = m.server ? apply(next.server, m.server) : nothingTouched();
  noteChanges(next, serverTouched, m.type === "sheet");
  const left = next.columns.filter((c) => m.left?.includes(c.number));
  const came = m.type === "sheet" ? [] : m.clients.filter((c) => !next.columns.some((x) => x.number === c.number));
  if (left.length + came.length > 0) {
    const comings = [
      ...left.map((client) => ({ tick: m.tick, client, came: false })),
      ...came.map((client) => ({ tick: m.tick, client, came: true })),
    ];
    next.comings = [...comings, ...next.comings].slice(0, keep);
  }
  next.columns = next.columns.filter((c) => !m.left?.includes(c.number));
  const touched = new Map<number, Touched>();
  for (const c of m.clients) {
    const at = next.columns.findIndex((x) => x.number === c.number);
    const before = next.columns[at];
    const column: Column = {
      ...c,
      copy: before?.copy ?? emptyCopy(),
      apart: before?.apart ?? new Map(),
      from: before?.from ?? m.tick,
    };
    const inCopy = nothingTouched();
    inCopy.all = !before;
    for (const f of c.frames ?? []) apply(column.copy, f, inCopy);
    column.frames = undefined;
    touched.set(c.number, inCopy);
    if (inCopy.all || inCopy.entities.size > 0) next.structure++;
    if (at >= 0) next.columns[at] = column;
    else next.columns = [...next.columns, column];
  }
  for (const c of next.columns)
    if (next.outline)
      recheck(c.apart, next.outline, next.server, c, serverTouched, touched.get(c.number) ?? nothingTouched());
  if (m.type !== "sheet" && m.decisions.length > 0) {
    next.outcomes = { ...s.outcomes };
    for (const d of m.decisions) next.outcomes[d.outcome]++;
  }
  next.decisions = [...[...m.decisions].reverse(), ...next.decisions].slice(0, keep);
  for (const a of m.arrivals ?? [])
    for (const d of m.decisions.filter((x) => x.tick === a.tick))
      next.delivered.set(keyOf(d), new Map(Object.entries(a.clients).map(([number, tick]) => [Number(number), tick])));
  noteDeliveries(next);
  const told = m.told.map((t, i) => ({ ...t, key: `${next.turn}/${i}` })).reverse();
  next.told = [...told, ...next.told].slice(0, keep);
  return next;
}

// noteDeliveries notes which clients have confirmed the tick of each decision by now. Who came later does not count.
function noteDeliveries(s: State): void {
  const known = new Set<string>();
  for (const d of s.decisions) {
    const key = keyOf(d);
    let of = s.delivered.get(key);
    if (d.tick <= s.since && !of) continue;
    known.add(key);
    if (!of) s.delivered.set(key, (of = new Map()));
    const wasHere = (c: Column) => c.from <= d.tick || c.number === d.client.number;
    for (const c of s.columns) if (wasHere(c) && c.seen >= d.tick && !of.has(c.number)) of.set(c.number, s.tick);
  }
  for (const key of s.delivered.keys()) if (!known.has(key)) s.delivered.delete(key);
}

// noteChanges notes when the server's values changed. What a sheet begins with is no change.
function noteChanges(s: State, touched: Touched, isSheet: boolean): void {
  if (touched.all || touched.entities.size > 0) s.structure++;
  if (isSheet) return;
  const note = (entity: number, names: Iterable<string>) => {
    const of = s.changed.get(entity) ?? new Map<string, number>();
    for (const name of names) of.set(name, s.tick);
    s.changed.set(entity, of);
  };
  for (const [entity, names] of touched.properties) note(entity, names);
  for (const entity of touched.entities) {
    const thing = s.server.things.get(entity);
    if (thing) note(entity, ["", ...Object.keys(thing.values)]);
    else s.changed.delete(entity);
  }
}

// follow watches a session until the returned function is called; a lost connection is taken up again.
export function follow(id: number): () => void {
  let socket: WebSocket | undefined;
  let timer: ReturnType<typeof setTimeout> | undefined;
  let over = false;
  let pending: Watch[] = [];
  useWatch.setState(fresh(id), true);

  // Messages are drawn once a frame, however many came.
  const draw = () => {
    const list = pending;
    pending = [];
    if (!over && list.length > 0) useWatch.setState((s) => list.reduce(take, s), true);
  };
  const ended = async (reason: string) => {
    try {
      const session = await api.session(id);
      if (over) return;
      if (!session.open) {
        const decisions = await api.decisions(id);
        useWatch.setState((s) => ({
          ...s,
          phase: "closed",
          session,
          decisions,
          columns: [],
          note: session.close_reason ?? reason,
        }));
        return;
      }
      useWatch.setState({ phase: "lost", note: "The connection was lost; trying again." });
      timer = setTimeout(connect, 1000);
    } catch (e) {
      if (over) return;
      const unknown = message(e).includes("there is no session");
      useWatch.setState({ phase: unknown ? "unknown" : "lost", note: message(e) });
      if (!unknown) timer = setTimeout(connect, 2000);
    }
  };
  const connect = () => {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    let reason = "";
    socket = new WebSocket(`${scheme}://${location.host}/api/sessions/${id}/watch`, "kamerad.watch.v1");
    socket.onmessage = (e) => {
      const m = JSON.parse(e.data as string) as Watch;
      if (m.type === "close") {
        reason = m.reason ?? "";
        return;
      }
      if (pending.length === 0) {
        // A page in the background draws no frames; it must not gather messages without end.
        if (document.hidden) setTimeout(draw, 200);
        else requestAnimationFrame(draw);
      }
      pending.push(m);
    };
    socket.onclose = () => {
      draw(); // before it is said that the session ended, not after
      if (!over) void ended(reason);
    };
  };
  connect();
  return () => {
    over = true;
    clearTimeout(timer);
    socket?.close();
  };
}
