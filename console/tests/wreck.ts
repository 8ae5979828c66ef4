// What the tests of the page's logic share: the contract that they speak of, and messages that are easy to write.

import type { Block, Frame, Kind, Outline, Watch, WatchClient } from "../src/shared/api";
import { take as takeMessage, type State } from "../src/session/watch";

export function wreck(kinds: Kind[]): Outline {
  return { contract: "wreck", tick: 20, seats: 4, roles: ["player"], kinds };
}

// Inline is a message of the service whose clients' frames stand where they are.
export type Inline = Omit<Watch, "clients"> & { clients: (Omit<WatchClient, "frames"> & { frames?: Frame[] })[] };

// take takes in a message whose frames share their blocks, as the service writes them.
export function take(s: State, m: Inline): State {
  const blocks: Block[] = [];
  const index = new Map<string, number>();
  const place = (b: Block) => {
    const text = JSON.stringify(b);
    if (!index.has(text)) index.set(text, blocks.push(b) - 1);
    return index.get(text)!;
  };
  const clients = m.clients.map((c) => ({
    ...c,
    frames: c.frames?.map((f) => ({ ...f, state: f.state?.map(place) })),
  }));
  return takeMessage(s, { ...m, clients, blocks });
}
