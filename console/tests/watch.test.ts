// What the session page makes of its connection to the service.

import { afterEach, expect, test, vi } from "vitest";
import { api, type Session, type Watch } from "../src/shared/api";
import { follow, useWatch } from "../src/session/watch";

afterEach(() => {
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

const tick: Watch = { type: "tick", tick: 7, clients: [], decisions: [], told: [] };

test("what came last is drawn before the session has closed, however late the page draws", async () => {
  let socket: { onmessage?: (e: { data: string }) => void; onclose?: () => void; close: () => void } | undefined;
  const draws: (() => void)[] = [];
  vi.stubGlobal("WebSocket", function () {
    return (socket = { close: () => {} });
  });
  vi.stubGlobal("location", { protocol: "http:", host: "localhost" });
  vi.stubGlobal("document", { hidden: false });
  vi.stubGlobal("requestAnimationFrame", (draw: () => void) => draws.push(draw));
  vi.spyOn(api, "session").mockResolvedValue({ open: false, close_reason: "it was enough" } as Session);
  vi.spyOn(api, "decisions").mockResolvedValue([]);

  const leave = follow(1);
  socket?.onmessage?.({ data: JSON.stringify(tick) });
  socket?.onclose?.();
  await vi.waitFor(() => expect(useWatch.getState().phase).toBe("closed"));
  expect(draws.length).toBeGreaterThan(0);
  draws.forEach((draw) => draw());
  expect(useWatch.getState()).toMatchObject({ phase: "closed", note: "it was enough", tick: 7 });
  leave();
});
