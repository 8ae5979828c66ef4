// Picking on the map what a field wants: an entity, or a place.

import { create } from "zustand";
import type { Point } from "./plane";

export type Wanted =
  | { what: "entity"; words: string; kinds?: string[]; take: (entity: number) => void }
  | { what: "place"; words: string; take: (place: Point) => void };

export const usePick = create<{ wanted?: Wanted }>(() => ({}));

export const pick = (wanted: Wanted): void => usePick.setState({ wanted });

export const endPick = (): void => usePick.setState({ wanted: undefined });
