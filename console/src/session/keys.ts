// Keys that do something wherever the page stands.

import { useEffect } from "react";

// press does what a key does, wherever the page stands.
export function press(key: string): void {
  window.dispatchEvent(new KeyboardEvent("keydown", { key }));
}

// useKeys has keys do something, unless they are typed somewhere.
export function useKeys(keys: Record<string, () => void>): void {
  useEffect(() => {
    const pressed = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && e.target.closest("input, select, textarea, [role=tablist]");
      const pressing = e.key === " " && e.target instanceof HTMLElement && e.target.closest("button, a");
      const act = keys[e.key];
      if (typing || pressing || e.ctrlKey || e.altKey || e.metaKey || !act) return;
      e.preventDefault();
      act();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  });
}
