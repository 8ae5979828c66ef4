// Presses that are kept, to be played again: in this browser, by the name of the contract.

import { create } from "zustand";

// Press is a request as it was asked: by whom, of its own or a shared entity (0) or another, and how long after the one
// before, in milliseconds.
export type Press = { client: string; request: string; entity: number; args: unknown[]; after: number };

const most = 50;
const longest = 10_000; // ms; who waits longer between two presses does not want to wait again

type Kept = { contract: string; presses: Press[]; at: number; recording: boolean };

export const useKept = create<Kept>(() => ({ contract: "", presses: [], at: 0, recording: false }));

const keyOf = (contract: string) => `kamerad.presses.${contract}`;

// openKept reads what is kept of a contract.
export function openKept(contract: string): void {
  if (useKept.getState().contract === contract) return;
  let presses: Press[] = [];
  try {
    presses = JSON.parse(localStorage.getItem(keyOf(contract)) ?? "[]") as Press[];
  } catch {
    // what cannot be read is as good as nothing
  }
  useKept.setState({ contract, presses, at: 0, recording: false });
}

function save(presses: Press[]): void {
  const { contract } = useKept.getState();
  useKept.setState({ presses });
  localStorage.setItem(keyOf(contract), JSON.stringify(presses));
}

// keep adds a press at a time in milliseconds.
export function keep(press: Omit<Press, "after">, now: number): void {
  const { presses, at } = useKept.getState();
  const after = at === 0 || presses.length === 0 ? 0 : Math.min(Math.round(now - at), longest);
  useKept.setState({ at: now });
  save([...presses, { ...press, after }].slice(-most));
}

export const forget = (i: number): void => save(useKept.getState().presses.filter((_, j) => j !== i));

export const forgetAll = (): void => save([]);

// play does presses again, one after the other, in the time that they were first done in.
export async function play(presses: Press[], press: (p: Press) => Promise<unknown>): Promise<void> {
  for (const [i, p] of presses.entries()) {
    if (i > 0 && p.after > 0) await new Promise((done) => setTimeout(done, p.after));
    await press(p);
  }
}
