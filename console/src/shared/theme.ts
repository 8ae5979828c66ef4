// Whether the page is light or dark, and whether it may move, where who looks at it wants other than the system says.

import { create } from "zustand";

export type Theme = "system" | "light" | "dark";
export type Motion = "system" | "reduced";

const [themeKey, motionKey] = ["kamerad.theme", "kamerad.motion"];

export const useTheme = create<{ theme: Theme; motion: Motion }>(() => ({
  theme: (localStorage.getItem(themeKey) as Theme | null) ?? "system",
  motion: (localStorage.getItem(motionKey) as Motion | null) ?? "system",
}));

export function setTheme(theme: Theme): void {
  localStorage.setItem(themeKey, theme);
  useTheme.setState({ theme });
  applyTheme();
}

export function setMotion(motion: Motion): void {
  localStorage.setItem(motionKey, motion);
  useTheme.setState({ motion });
  applyTheme();
}

// applyTheme tells the style sheet. It is called before anything is drawn, and when the system changes its mind.
export function applyTheme(): void {
  const { theme, motion } = useTheme.getState();
  const isDark = theme === "dark" || (theme === "system" && matchMedia("(prefers-color-scheme: dark)").matches);
  const isStill = motion === "reduced" || matchMedia("(prefers-reduced-motion: reduce)").matches;
  document.documentElement.dataset.theme = isDark ? "dark" : "light";
  document.documentElement.dataset.motion = isStill ? "reduced" : "full";
}

export function followSystem(): void {
  for (const query of ["(prefers-color-scheme: dark)", "(prefers-reduced-motion: reduce)"])
    matchMedia(query).addEventListener("change", applyTheme);
}
