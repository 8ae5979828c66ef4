// What of the sheet is to be seen: a filter of words, what differs or has changed, and what is near.

import { memo, useEffect, useRef, useState } from "react";
import { useWatch, type State } from "./watch";
import { count } from "./apart";
import { nameOf, things } from "./copy";
import { placeOf, recentSeconds, type View } from "./rows";

const chip =
  "h-6 px-2 rounded-sm border border-line text-xs cursor-pointer whitespace-nowrap " +
  "aria-pressed:border-act aria-pressed:bg-act/10 aria-pressed:font-semibold";

type Choice = { entity: number; name: string };

// placedOf lists what has a place, to sort by how near it is; it is listed anew when there is something else.
function placedOf(): (s: State) => Choice[] {
  let last: { structure: number; outline: State["outline"]; list: Choice[] } | undefined;
  return (s) => {
    const { outline, structure } = s;
    if (!outline) return [];
    if (last?.structure !== structure || last.outline !== outline) {
      const placed = things(s.server).filter((t) => placeOf(s, outline, t));
      const list = placed.map((t) => ({ entity: t.entity, name: nameOf(s.server.clients, t) }));
      last = { structure, outline, list };
    }
    return last.list;
  };
}

const Nearest = memo(
  function Nearest(props: { near: number; choices: Choice[]; onChange: (near: number) => void }) {
    if (props.choices.length === 0) return null;
    return (
      <select
        className={`${chip} max-w-44`}
        aria-label="Sort by how near it is to"
        value={props.near}
        onChange={(e) => props.onChange(Number(e.target.value))}
      >
        <option value={0}>by kind</option>
        {props.choices.map((t) => (
          <option key={t.entity} value={t.entity}>
            nearest to {t.name}
          </option>
        ))}
      </select>
    );
  },
  (a, b) => a.near === b.near && a.choices === b.choices,
);

// FilterText is what is typed. The address follows a moment later: a page that waits for it would lose letters that are
// typed fast.
function FilterText({ text, onChange }: { text: string; onChange: (text: string) => void }) {
  const [typed, setTyped] = useState(text);
  const [told, setTold] = useState(text);
  if (told !== text) {
    setTold(text);
    if (text !== typed) setTyped(text); // somebody else has changed it
  }
  const latest = useRef(onChange);
  useEffect(() => {
    latest.current = onChange;
  });
  useEffect(() => {
    if (typed === text) return;
    const timer = setTimeout(() => {
      setTold(typed);
      latest.current(typed);
    }, 120);
    return () => clearTimeout(timer);
  }, [typed, text]);
  return (
    <input
      id="filter"
      className="field w-56! text-xs"
      type="search"
      aria-label="Filter the rows"
      placeholder="Filter: diver hull, owner:bo"
      value={typed}
      onChange={(e) => setTyped(e.target.value)}
    />
  );
}

export function Filters(props: { view: View; rows: number; onChange: (view: View) => void }) {
  const watch = useWatch();
  const { outline, server, columns } = watch;
  const [choices] = useState(placedOf);
  const { view } = props;
  if (!outline) return null;
  const { different, late } = count(server, columns);
  const only = (which: View["only"]) => props.onChange({ ...view, only: view.only === which ? "" : which });
  return (
    <search className="flex h-9 shrink-0 items-center gap-2 border-b border-line px-3">
      <FilterText text={view.text} onChange={(text) => props.onChange({ ...view, text })} />
      <button className={chip} aria-pressed={view.only === "differs"} onClick={() => only("differs")}>
        differs <span className={different > 0 ? "text-bad" : "text-muted"}>{different + late}</span>
      </button>
      <button className={chip} aria-pressed={view.only === "changed"} onClick={() => only("changed")}>
        changed in {recentSeconds} s
      </button>
      <Nearest near={view.near} choices={choices(watch)} onChange={(near) => props.onChange({ ...view, near })} />
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
