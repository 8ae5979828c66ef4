// The state of the session page: one WebSocket to the service, and what it told.

import { create } from "zustand";
import {
  api,
  message,
  type Block,
  type Decision,
  type Client,
  type Faults,
  type Load,
  type LogLine,
  type Outcome,
  type Outline,
  type Refused,
  type Session,
  type Span,
  type Told,
  type Watch,
  type WatchClient,
} from "../shared/api";
import { recheck, truthOf, type Apart } from "./apart";
import { keyOf } from "./flow";
import { add, begin, emptyHistory, messagesTo, rangeOf, wantsSheet, type History } from "./history";
import { apply, emptyCopy, nothingTouched, type Copy, type Touched } from "./copy";

// Column is a client. from is the tick in which the page first knew of it.
export type Column = WatchClient & { copy: Copy; apart: Apart; from: number };

export type State = {
  id: number;
  phase: "connecting" | "live" | "lost" | "closed" | "unknown";
  moment?: { from: number; to: number }; // a moment is shown, out of these ticks; without it, the newest
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
  everybodyHas: WeakSet<Decision>; // decisions that every client who was there has confirmed
  outcomes: Record<Outcome, number>; // of the decisions since the page was opened
  told: (Told & { key: string })[];
  load?: Load;
  refused: Refused[]; // writes and holds that were not carried out, the newest first
  logs: (LogLine & { key: string })[]; // of every side, the newest first
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

// useWatch holds what the page shows: the newest, or a moment of what was.
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
    everybodyHas: new WeakSet(),
    outcomes: { accepted: 0, denied: 0, dropped: 0, malformed: 0, faulted: 0 },
    told: [],
    spans: [],
    refused: [],
    logs: [],
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
    next.refused = [];
    next.logs = [];
    next.comings = [];
    next.faults = m.session?.faults;
    next.changed = new Map();
    next.delivered = new Map();
    next.everybodyHas = new WeakSet();
    next.since = m.tick;
  }
  if (m.faults) next.faults = m.faults;
  if (m.load) next.load = m.load;
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
    for (const f of c.frames ?? [])
      apply(column.copy, { ...f, state: f.state?.map((i) => m.blocks?.[i] as Block) }, inCopy);
    column.frames = undefined;
    touched.set(c.number, inCopy);
    if (inCopy.all || inCopy.entities.size > 0) next.structure++;
    if (at >= 0) next.columns[at] = column;
    else next.columns = [...next.columns, column];
  }
  if (next.outline) {
    const truth = truthOf(next.outline, next.server);
    for (const c of next.columns) recheck(c.apart, truth, c, serverTouched, touched.get(c.number) ?? nothingTouched());
  }
  if (m.type !== "sheet" && m.decisions.length > 0) {
    next.outcomes = { ...s.outcomes };
    for (const d of m.decisions) next.outcomes[d.outcome]++;
  }
  if (m.decisions.length > 0) {
    const decisions = [...[...m.decisions].reverse(), ...next.decisions];
    next.decisions = decisions.slice(0, keep);
    for (const d of decisions.slice(keep)) next.delivered.delete(keyOf(d));
  }
  for (const a of m.arrivals ?? [])
    for (const d of m.decisions.filter((x) => x.tick === a.tick))
      next.delivered.set(keyOf(d), new Map(Object.entries(a.clients).map(([number, tick]) => [Number(number), tick])));
  noteDeliveries(next);
  if (m.refused) next.refused = [...[...m.refused].reverse(), ...next.refused].slice(0, keep);
  if (m.logs) {
    const logs = m.logs.map((l, i) => ({ ...l, key: `${next.turn}/${i}` })).reverse();
    next.logs = [...logs, ...next.logs].slice(0, keep);
  }
  if (m.told.length > 0) {
    const told = m.told.map((t, i) => ({ ...t, key: `${next.turn}/${i}` })).reverse();
    next.told = [...told, ...next.told].slice(0, keep);
  }
  return next;
}

// noteDeliveries notes which clients have confirmed the tick of each decision by now. Who came later does not count.
function noteDeliveries(s: State): void {
  for (const d of s.decisions) {
    if (s.everybodyHas.has(d)) continue;
    const key = keyOf(d);
    let of = s.delivered.get(key);
    if (d.tick <= s.since && !of) continue;
    if (!of) s.delivered.set(key, (of = new Map()));
    const wasHere = (c: Column) => c.from <= d.tick || c.number === d.client.number;
    let isComplete = true;
    for (const c of s.columns) {
      if (!wasHere(c) || of.has(c.number)) continue;
      if (c.seen >= d.tick) of.set(c.number, s.tick);
      else isComplete = false;
    }
    if (isComplete) s.everybodyHas.add(d);
  }
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
  for (const u of touched.updates) note(u.entity, [...Object.keys(u.values), ...(u.withdrawn ?? [])]);
  for (const entity of touched.entities) {
    const thing = s.server.things.get(entity);
    if (thing) note(entity, ["", ...Object.keys(thing.values)]);
    else s.changed.delete(entity);
  }
}

// What the page goes back to, and the newest state, which the page shows unless it shows a moment.
let history: History = emptyHistory();
let live: State = fresh(0);

// stateAt plays what leads to a tick. It begins from the shown state where that is on the way.
function stateAt(tick: number): State {
  const shown = useWatch.getState();
  const messages = messagesTo(history, tick, shown.moment ? shown.tick : undefined);
  const isOnWay = messages[0]?.type !== "sheet";
  const played = messages.reduce(take, isOnWay ? shown : fresh(shown.id));
  const [from, to] = rangeOf(history);
  const longer = <T extends { tick: number }>(played: T[], all: T[]) => {
    const until = all.filter((x) => x.tick <= tick);
    return until.length > played.length ? until : played;
  };
  return {
    ...played,
    phase: live.phase,
    note: live.note,
    session: live.session ?? played.session,
    tick,
    moment: { from, to },
    decisions: longer(played.decisions, live.decisions),
    told: longer(played.told, live.told),
    comings: longer(played.comings, live.comings),
    refused: longer(played.refused, live.refused),
    logs: longer(played.logs, live.logs),
  };
}

// showMoment shows the session as it was at a tick, as far as it is known.
export function showMoment(tick: number): void {
  const [from, to] = rangeOf(history);
  if (to > 0) useWatch.setState(stateAt(Math.min(Math.max(tick, from), to)), true);
}

// showNewest shows the session as it is. Of a drill that is over that is its last tick.
export function showNewest(): void {
  if (live.id === 0) showMoment(rangeOf(history)[1]);
  else useWatch.setState(live, true);
}

// toggleMoment stops the page at what it shows, or lets it go on with the newest. What is over stays as it is.
export function toggleMoment(): void {
  const { moment, phase, tick, id } = useWatch.getState();
  if (moment && phase === "live" && id > 0) showNewest();
  else showMoment(tick);
}

// show makes a state the newest one, and draws it unless a moment is shown.
function show(state: State): void {
  live = state;
  const { moment } = useWatch.getState();
  if (!moment) useWatch.setState(state, true);
  else {
    const [from, to] = rangeOf(history);
    useWatch.setState({ moment: { from, to }, phase: state.phase, note: state.note });
  }
}

// keepWhole has the shown state say what the newest one says, without drawing it: the copies are changed in place, and
// a part of the page that is drawn meanwhile, since somebody pressed something, is not to show them beside older ticks.
function keepWhole(state: State): void {
  const shown = useWatch.getState();
  if (!shown.moment) Object.assign(shown, state);
}

// playBack shows what the watcher of a session that is over was told, at a tick.
export function playBack(messages: Watch[], tick: number): void {
  history = emptyHistory();
  live = { ...fresh(0), phase: "live" };
  useWatch.setState(fresh(0), true);
  for (const m of messages)
    if (m.type === "sheet") begin(history, m.tick, JSON.stringify(m), 0);
    else add(history, m.tick, JSON.stringify(m), 0);
  showMoment(tick);
}

// watchAddress is where a session is watched.
function watchAddress(id: number): string {
  return `${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/api/sessions/${id}/watch`;
}

// beginPart begins another part of the history with a sheet of now.
function beginPart(id: number): () => void {
  const socket = new WebSocket(watchAddress(id), "kamerad.watch.v1");
  socket.onmessage = (e) => {
    const text = e.data as string;
    const tick = tickOf(text);
    if (text.startsWith('{"type":"sheet"')) begin(history, tick, text, performance.now());
    socket.close();
  };
  return () => socket.close();
}

// A frame that takes no longer than quickFrame (ms) costs nobody anything. What it takes beyond that, restFactor times,
// the page is left alone, longestRest (ms) at most.
const quickFrame = 10;
const restFactor = 4;
const longestRest = 250;

// askEvery is how often another sheet is asked for at most, in milliseconds.
const askEvery = 20_000;

// tickOf reads the tick of a sheet without the rest, which may be long: the first that stands in it is its session's.
function tickOf(text: string): number {
  return Number(/"tick":(\d+)/.exec(text)?.[1]);
}

// follow watches a session until the returned function is called; a lost connection is taken up again.
export function follow(id: number): () => void {
  let socket: WebSocket | undefined;
  let timer: ReturnType<typeof setTimeout> | undefined;
  let over = false;
  let isPending = false; // something came that is not drawn
  let endPart: (() => void) | undefined;
  history = emptyHistory();
  live = fresh(id);
  useWatch.setState(live, true);

  // Messages are taken in one by one, as they come, and drawn together. A page that takes long to draw is drawn more
  // seldom, so that it has time for whoever uses it.
  let rest = 0; // ms that the page is left alone after it was drawn
  let drawn = 0; // when that was
  const draw = () => {
    if (!isPending || over) return;
    isPending = false;
    const began = performance.now();
    show(live);
    // The frame has been painted once a task after it runs.
    requestAnimationFrame(() =>
      setTimeout(() => {
        drawn = performance.now();
        rest = Math.min(Math.max(drawn - began - quickFrame, 0) * restFactor, longestRest);
      }),
    );
  };
  // A draw is a task of its own, apart from the browser's layout and painting after it: two short tasks keep a key that
  // is pressed meanwhile waiting for half as long as one.
  const drawSoon = () =>
    setTimeout(draw, document.hidden ? longestRest : Math.max(drawn + rest - performance.now(), 0));
  const ended = async (reason: string) => {
    try {
      const session = await api.session(id);
      if (over) return;
      if (!session.open) {
        const decisions = await api.decisions(id);
        show({ ...live, phase: "closed", session, decisions, columns: [], note: session.close_reason ?? reason });
        return;
      }
      show({ ...live, phase: "lost", note: "The connection was lost; trying again." });
      timer = setTimeout(connect, 1000);
    } catch (e) {
      if (over) return;
      const unknown = message(e).includes("there is no session");
      show({ ...live, phase: unknown ? "unknown" : "lost", note: message(e) });
      if (!unknown) timer = setTimeout(connect, 2000);
    }
  };
  const keep = (m: Watch, text: string) => {
    const now = performance.now();
    if (m.type === "sheet") {
      history = emptyHistory(); // what was before has a gap
      begin(history, m.tick, text, now);
    } else add(history, m.tick, text, now);
    if (m.type === "tick" && wantsSheet(history, now) && now > asked + askEvery) {
      asked = now;
      endPart = beginPart(id);
    }
  };
  let asked = 0;
  const connect = () => {
    let reason = "";
    socket = new WebSocket(watchAddress(id), "kamerad.watch.v1");
    socket.onmessage = (e) => {
      const text = e.data as string;
      const m = JSON.parse(text) as Watch;
      if (m.type === "close") {
        reason = m.reason ?? "";
        return;
      }
      keep(m, text);
      live = take(live, m);
      keepWhole(live);
      if (!isPending) drawSoon();
      isPending = true;
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
    endPart?.();
  };
}
