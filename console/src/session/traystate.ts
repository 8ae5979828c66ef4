// Which tab of the tray is shown, and of which outcome alone the time line tells; the strip opens them.

import { create } from "zustand";
import type { Outcome } from "../shared/api";

export type TrayTab = "line" | "flow" | "traffic" | "drill" | "faults" | "acts";

export const useTray = create<{ tab: TrayTab; outcome?: Outcome }>(() => ({ tab: "line" }));

export const openTray = (tab: TrayTab, outcome?: Outcome): void => useTray.setState({ tab, outcome });
