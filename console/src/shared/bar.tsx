// The bar on top of every page: where I am, and one main action.

import { Search } from "lucide-react";
import type { ReactNode } from "react";
import { NavLink } from "react-router";
import { openPalette } from "./commands";

const pages = [
  ["/", "Sessions"],
  ["/contracts", "Contracts"],
  ["/drills", "Drills and audit"],
  ["/settings", "Settings"],
] as const;

export function Bar(props: { title?: ReactNode; children?: ReactNode }) {
  return (
    <header className="flex h-12 shrink-0 items-center gap-4 border-b border-line bg-raised px-4 whitespace-nowrap">
      <NavLink to="/" className="text-base font-semibold" end>
        Kamerad
      </NavLink>
      <nav aria-label="Pages" className="flex gap-3 text-muted">
        {pages.map(([to, name]) => (
          <NavLink
            key={to}
            to={to}
            end={to === "/"}
            className="hover:text-ink aria-[current=page]:font-semibold aria-[current=page]:text-ink"
          >
            {name}
          </NavLink>
        ))}
      </nav>
      {props.title && <span className="text-muted">/</span>}
      {props.title}
      <span className="flex-1" />
      <button className="plain gap-2 px-2" onClick={openPalette} aria-label="Find or do anything">
        <Search size={14} aria-hidden="true" />
        <kbd className="rounded-sm border border-line px-1 font-mono text-xs">Ctrl K</kbd>
      </button>
      {props.children}
    </header>
  );
}
