// The state of the session page: one WebSocket to the service, and what it told.

import { create } from "zustand";
import {
  api,
  message,
  type Decision,
  type Faults,
  type Outline,
  type Session,
  type Told,
  type Watch,
  type WatchClient,
} from "../shared/api";
import { apply, emptyCopy, type Copy } from "./copy";

export type Column = WatchClient & { copy: Copy };

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
  faults?: Faults;
  told: (Told & { tick: number; key: string })[];
  turn: number; // counts what came, so that a changed copy is drawn
};

const keep = 200;

export const useWatch = create<State>(() => fresh(0));

function fresh(id: number): State {
  return {
    id,
    phase: "connecting",
    note: "",
    tick: 0,
    server: emptyCopy(),
    columns: [],
    decisions: [],
    told: [],
    turn: 0,
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
    next.faults = m.session?.faults;
  }
  if (m.faults) next.faults = m.faults;
  if (m.server) apply(next.server, m.server);
  next.columns = next.columns.filter((c) => !m.left?.includes(c.number));
  for (const c of m.clients) {
    const at = next.columns.findIndex((x) => x.number === c.number);
    const column: Column = { ...c, copy: next.columns[at]?.copy ?? emptyCopy() };
    for (const f of c.frames ?? []) apply(column.copy, f);
    column.frames = undefined;
    if (at >= 0) next.columns[at] = column;
    else next.columns = [...next.columns, column];
  }
  next.decisions = [...[...m.decisions].reverse(), ...next.decisions].slice(0, keep);
  const told = m.told.map((t, i) => ({ ...t, tick: m.tick, key: `${next.turn}/${i}` })).reverse();
  next.told = [...told, ...next.told].slice(0, keep);
  return next;
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
