// What of the sheet is to be seen: a filter of words, what differs or has changed, and what is near.

import { useWatch } from "./watch";
import { count } from "./apart";
import { nameOf, things } from "./copy";
import { placeOf, recentSeconds, type View } from "./rows";

const chip =
  "h-6 px-2 rounded-sm border border-line text-xs cursor-pointer whitespace-nowrap " +
  "aria-pressed:border-act aria-pressed:bg-act/10 aria-pressed:font-semibold";

export function Filters(props: { view: View; rows: number; onChange: (view: View) => void }) {
  const watch = useWatch();
  const { outline, server, columns } = watch;
  const { view } = props;
  if (!outline) return null;
  const { different, late } = count(columns);
  const only = (which: View["only"]) => props.onChange({ ...view, only: view.only === which ? "" : which });
  const placed = things(server).filter((t) => placeOf(watch, outline, t));
  return (
    <search className="flex h-9 shrink-0 items-center gap-2 border-b border-line px-3">
      <input
        className="field w-56! text-xs"
        type="search"
        aria-label="Filter the rows"
        placeholder="Filter: diver hull, owner:bo"
        value={view.text}
        onChange={(e) => props.onChange({ ...view, text: e.target.value })}
      />
      <button className={chip} aria-pressed={view.only === "differs"} onClick={() => only("differs")}>
        differs <span className={different > 0 ? "text-bad" : "text-muted"}>{different + late}</span>
      </button>
      <button className={chip} aria-pressed={view.only === "changed"} onClick={() => only("changed")}>
        changed in {recentSeconds} s
      </button>
      {placed.length > 0 && (
        <select
          className={`${chip} max-w-44`}
          aria-label="Sort by how near it is to"
          value={view.near}
          onChange={(e) => props.onChange({ ...view, near: Number(e.target.value) })}
        >
          <option value={0}>by kind</option>
          {placed.map((t) => (
            <option key={t.entity} value={t.entity}>
              nearest to {nameOf(server.clients, t)}
            </option>
          ))}
        </select>
      )}
      {view.pinned.size > 0 && (
        <button className={chip} aria-pressed onClick={() => props.onChange({ ...view, pinned: new Set() })}>
          pinned {view.pinned.size}
        </button>
      )}
      {view.folded.size > 0 && (
        <button className={chip} aria-pressed onClick={() => props.onChange({ ...view, folded: new Set() })}>
          folded {view.folded.size}
        </button>
      )}
      <span className="flex-1" />
      <span className="text-xs whitespace-nowrap text-muted">
        {counted(server.things.size, "entity", "entities")}, {counted(props.rows, "row", "rows")}
      </span>
    </search>
  );
}

function counted(n: number, one: string, many: string): string {
  return `${n.toLocaleString("en")} ${n === 1 ? one : many}`;
}
