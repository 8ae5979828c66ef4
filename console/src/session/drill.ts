// The drill that is recorded of a session: what was expected so far, and whether pressing a cell expects it.

import { create } from "zustand";
import { api, message } from "../shared/api";
import { useWatch } from "./watch";

export type Expected = { tick: number; line: string };

export const useDrill = create<{ id: number; expecting: boolean; lines: Expected[]; error: string }>(() => ({
  id: 0,
  expecting: false,
  lines: [],
  error: "",
}));

// beginDrill forgets what was expected in another session.
export function beginDrill(id: number): void {
  if (useDrill.getState().id !== id) useDrill.setState({ id, expecting: false, lines: [], error: "" });
}

// expectCell expects what a client sees now of a property, 0 being the server.
export async function expectCell(client: number, entity: number, property: string): Promise<void> {
  const { id } = useWatch.getState();
  try {
    const line = await api.expect(id, client, entity, property);
    useDrill.setState((s) => ({ lines: [...s.lines, line], error: "" }));
  } catch (e) {
    useDrill.setState({ error: message(e) });
  }
}
