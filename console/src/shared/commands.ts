// What can be done from wherever the page stands, by name. A page adds its own while it is there.

import { useEffect } from "react";
import { create } from "zustand";

export type Command = { name: string; group: string; key?: string; run: () => void };

type Commands = { open: boolean; sets: Map<symbol, Command[]> };

export const useCommands = create<Commands>(() => ({ open: false, sets: new Map() }));

export const openPalette = (): void => useCommands.setState({ open: true });

// useOffer offers commands while a component is there. The list has to be the same one until something changes.
export function useOffer(commands: Command[]): void {
  useEffect(() => {
    const own = Symbol();
    const put = (list?: Command[]) =>
      useCommands.setState((s) => {
        const sets = new Map(s.sets);
        if (list) sets.set(own, list);
        else sets.delete(own);
        return { sets };
      });
    put(commands);
    return () => put();
  }, [commands]);
}
