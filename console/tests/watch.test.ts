// What the session page makes of its connection to the service.

import { afterEach, expect, test, vi } from "vitest";
import { api, type Kind, type Session, type Watch } from "../src/shared/api";
import { follow, showMoment, useWatch } from "../src/session/watch";
import { wreck } from "./wreck";

afterEach(() => {
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

const tick: Watch = { type: "tick", tick: 7, clients: [], decisions: [], told: [] };

// connected has the page watch a session by a socket that the test speaks through, and draw when the test says so.
function connected() {
  let socket: { onmessage?: (e: { data: string }) => void; onclose?: () => void; close: () => void } | undefined;
  const draws: (() => void)[] = [];
  vi.stubGlobal("WebSocket", function () {
    return (socket = { close: () => {} });
  });
  vi.stubGlobal("location", { protocol: "http:", host: "localhost" });
  vi.stubGlobal("document", { hidden: false });
  vi.stubGlobal("requestAnimationFrame", (draw: () => void) => draws.push(draw));
  const leave = follow(1);
  const say = (m: Watch) => socket?.onmessage?.({ data: JSON.stringify(m) });
  return { say, close: () => socket?.onclose?.(), draws, leave };
}

test("what came last is drawn before the session has closed, however late the page draws", async () => {
  vi.spyOn(api, "session").mockResolvedValue({ open: false, close_reason: "it was enough" } as Session);
  vi.spyOn(api, "decisions").mockResolvedValue([]);

  const { say, close, draws, leave } = connected();
  say(tick);
  close();
  await vi.waitFor(() => expect(useWatch.getState().phase).toBe("closed"));
  expect(draws.length).toBeGreaterThan(0);
  draws.forEach((draw) => draw());
  expect(useWatch.getState()).toMatchObject({ phase: "closed", note: "it was enough", tick: 7 });
  leave();
});

test("what is drawn between two draws is of one tick", async () => {
  const { say, leave } = connected();
  const hull = { name: "hull", type: { form: "int" }, to: "everyone" };
  const kind = { name: "Eel", shared: false, to: "everyone", properties: [hull], requests: [], events: [] };
  const outline = wreck([kind as unknown as Kind]);
  const eel = { entity: 7, kind: "Eel", owner: 0, values: { hull: 1 } };
  const first = { tick: 7, snapshot: true, state: [{ spawned: [eel] }] };
  const ana = { number: 1, name: "Ana", role: "player", test: true, seen: 7, sent: 7 };
  say({ ...tick, type: "sheet", outline, server: first, clients: [ana] });
  await vi.waitFor(() => expect(useWatch.getState().tick).toBe(7));
  const drawn = vi.fn();
  const unsubscribe = useWatch.subscribe(drawn);
  const changed = { tick: 8, state: [{ values: [{ entity: 7, kind: "Eel", values: { hull: 2 } }] }] };
  say({ ...tick, tick: 8, server: changed, clients: [{ ...ana, sent: 8, waits: 8 }] });
  const { tick: now, server, columns } = useWatch.getState();
  expect(drawn).not.toHaveBeenCalled();
  expect([now, server.tick, columns[0]?.waits]).toEqual([8, 8, 8]);
  await vi.waitFor(() => expect(drawn).toHaveBeenCalled());
  unsubscribe();

  // A moment that is shown stays as it is.
  showMoment(7);
  say({ ...tick, tick: 9, server: { ...changed, tick: 9 }, clients: [{ ...ana, sent: 9, waits: 8 }] });
  expect([useWatch.getState().tick, useWatch.getState().server.tick]).toEqual([7, 7]);
  leave();
});
