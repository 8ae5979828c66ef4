// The comparison sheet: rows are entities and their properties, columns the server and each client. Only the rows that
// are in sight are drawn.

import { useVirtualizer } from "@tanstack/react-virtual";
import { ChevronDown, ChevronRight, Pin, PinOff, X } from "lucide-react";
import { memo, useEffect, useRef, useState, type RefObject } from "react";
import type { Property } from "../shared/api";
import { Mark, Sign } from "../shared/signs";
import { format, kindOf, ownerName, present, signOf, standingOf, type Cell, type Thing } from "./copy";
import { knowsOthers } from "./apart";
import { expectCell, useDrill } from "./drill";
import type { Row } from "./rows";
import { useWatch, type Column, type State } from "./watch";

const rowHeight = 25; // px: a line above, and what is to be pressed 24 px high
const headHeight = 52;
// Widths of the first columns, which stay in sight, and the least one of a client's.
const fixed = [136, 120, 160] as const;
const clientWidth = 148;

export function Sheet(props: {
  rows: Row[];
  asking?: number;
  selected: string;
  onAsk: (n: number) => void;
  onClose: (n: number) => void;
  onSelect: (key: string) => void;
  onFold: (kind: string) => void;
  onPin: (key: string) => void;
}) {
  const watch = useWatch();
  const { columns } = watch;
  const scroller = useRef<HTMLDivElement>(null);
  // eslint-disable-next-line react-hooks/incompatible-library -- what it returns goes to no memoized component
  const rows = useVirtualizer({
    count: props.rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 6,
    scrollMargin: headHeight,
  });
  const width = useWidth(scroller);
  const left = fixed.reduce((a, b) => a + b, 0);
  const each = Math.max(clientWidth, Math.floor((width - left) / Math.max(columns.length, 1)));
  const across = useVirtualizer({
    horizontal: true,
    count: columns.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => each,
    overscan: 1,
    scrollMargin: left,
  });
  useEffect(() => across.measure(), [across, each]);
  const seen = across.getVirtualItems();
  const inSight = seen.map((item) => columns[item.index] as Column);
  const before = seen[0] ? seen[0].start - left : 0;
  const template = `${fixed.map((w) => `${w}px`).join(" ")} ${before}px repeat(${Math.max(seen.length, 1)}, ${each}px)`;
  return (
    <div
      ref={scroller}
      className="min-h-0 flex-1 overflow-auto"
      role="table"
      aria-label="Values of the server and of each client"
      aria-rowcount={props.rows.length + 1}
    >
      <div
        style={{ height: rows.getTotalSize() + headHeight, minWidth: left + each * columns.length }}
        className="relative"
      >
        <div
          role="row"
          className="sticky top-0 z-10 grid border-b border-ink bg-paper font-semibold"
          style={{ gridTemplateColumns: template, height: headHeight }}
        >
          {["Entity", "Property", "Server"].map((h, i) => (
            <Stay key={h} at={i} role="columnheader" className="flex items-end bg-paper px-3 pb-1">
              {h}
            </Stay>
          ))}
          <div role="presentation" />
          {inSight.map((c) => (
            <div key={c.number} role="columnheader" className="min-w-0 border-l border-line px-3 pt-1">
              <Head
                column={c}
                knowsOthers={knowsOthers(watch.server, c)}
                tick={watch.tick}
                asking={props.asking === c.number}
                onAsk={props.onAsk}
                onClose={props.onClose}
              />
            </div>
          ))}
        </div>
        {rows.getVirtualItems().map((item) => {
          const row = props.rows[item.index] as Row;
          return (
            <div
              key={row.key}
              role="row"
              aria-rowindex={item.index + 2}
              data-row={row.thing ? `${row.name}.${row.property?.name ?? "owner"}` : row.name}
              className={
                "group absolute left-0 grid w-full items-stretch [contain:strict] " +
                (row.first && item.index > 0 ? "border-t border-line " : "") +
                (row.key === props.selected ? "bg-chosen" : "")
              }
              style={{ gridTemplateColumns: template, height: rowHeight, top: item.start }}
            >
              {row.thing ? (
                <Values
                  row={row}
                  thing={row.thing}
                  watch={watch}
                  columns={inSight}
                  selected={row.key === props.selected}
                  onSelect={props.onSelect}
                  onPin={props.onPin}
                  onFold={props.onFold}
                />
              ) : (
                <Folded row={row} onFold={props.onFold} />
              )}
            </div>
          );
        })}
      </div>
    </div>
  );
}

// useWidth gives the width of an element, as it is now.
function useWidth(element: RefObject<HTMLElement | null>): number {
  const [width, setWidth] = useState(1280);
  useEffect(() => {
    if (!element.current) return undefined;
    const observer = new ResizeObserver(([entry]) => entry && setWidth(entry.contentRect.width));
    observer.observe(element.current);
    return () => observer.disconnect();
  }, [element]);
  return width;
}

// Stay is a cell of a column that stays in sight when the sheet is moved sideways.
function Stay(props: { at: number; role: string; className?: string; column?: string; children?: React.ReactNode }) {
  const left = fixed.slice(0, props.at).reduce((a, b) => a + b, 0);
  return (
    <div
      role={props.role}
      data-column={props.column}
      style={{ left }}
      className={`sticky z-1 ${props.className ?? ""}`}
    >
      {props.children}
    </div>
  );
}

function Folded({ row, onFold }: { row: Row; onFold: (kind: string) => void }) {
  return (
    <Stay at={0} role="rowheader" className="col-span-3 flex items-center bg-paper px-1">
      <button className="plain w-full justify-start! font-semibold text-ink!" onClick={() => onFold(row.key)}>
        <ChevronRight size={14} aria-hidden="true" /> {row.name}
        <span className="pl-2 font-normal text-muted">{row.folded} folded</span>
      </button>
    </Stay>
  );
}

type RowProps = {
  row: Row;
  thing: Thing;
  watch: State;
  columns: Column[]; // in sight
  selected: boolean;
  onSelect: (key: string) => void;
  onPin: (key: string) => void;
  onFold: (kind: string) => void;
};

function Values({ row, thing, watch, columns, selected, onSelect, onPin, onFold }: RowProps) {
  const { server, tick } = watch;
  const { property } = row;
  const expecting = useDrill((s) => s.expecting);
  const ground = selected ? "bg-chosen" : "bg-paper group-hover:bg-raised";
  return (
    <>
      <Stay at={0} role="cell" className={`flex items-center ${ground} pl-1`}>
        {row.first && (
          <button
            className="plain w-full min-w-0 justify-start! font-semibold text-ink!"
            title={`Fold all of the kind ${thing.kind}`}
            aria-label={`${row.name}: fold the kind ${thing.kind}`}
            onClick={() => onFold(thing.kind)}
          >
            <ChevronDown size={14} aria-hidden="true" className="shrink-0 text-muted" />
            <span className="truncate">{row.name}</span>
          </button>
        )}
      </Stay>
      <Stay at={1} role="rowheader" className={`flex items-center gap-1 ${ground} pl-3`}>
        <button className="h-6 min-w-0 flex-1 cursor-pointer truncate text-left" onClick={() => onSelect(row.key)}>
          {property?.name ?? <span className="text-muted">owner</span>}
          {property?.follows && <span className="text-muted"> moves</span>}
        </button>
        <button
          className={`plain min-w-6! ${row.pinned ? "" : "opacity-0 group-hover:opacity-100 focus-visible:opacity-100"}`}
          aria-pressed={!!row.pinned}
          aria-label={`${row.pinned ? "Unpin" : "Pin"} ${row.name}.${property?.name ?? "owner"}`}
          onClick={() => onPin(row.key)}
        >
          {row.pinned ? <PinOff size={12} /> : <Pin size={12} />}
        </button>
      </Stay>
      <Stay
        at={2}
        role="cell"
        column="server"
        className={`flex min-w-0 items-center ${ground} border-l border-line px-3`}
      >
        {expecting && property && (
          <ExpectCell name="the server" what={`0/${thing.entity}/${property.name}/${row.name}.${property.name}`} />
        )}
        <ServerValue row={row} thing={thing} watch={watch} />
      </Stay>
      <div role="presentation" />
      {columns.map((c) => (
        <Held
          key={c.number}
          name={c.name}
          beat={beatOf(watch)}
          number={isNumber(property)}
          moves={moves(c.copy.things.get(thing.entity), property)}
          expects={
            expecting && property ? `${c.number}/${thing.entity}/${property.name}/${row.name}.${property.name}` : ""
          }
          {...cellOf(watch, c, thing, row, tick, server.things.has(thing.entity))}
        />
      ))}
    </>
  );
}

function ServerValue({ row, thing, watch }: { row: Row; thing: Thing; watch: State }) {
  const { outline, server, tick } = watch;
  const { property } = row;
  if (!outline) return null;
  if (!property) return <>{row.gone ? "gone" : ownerName(server.clients, thing)}</>;
  const text = format(property.type, present(outline, server, thing, property, tick));
  return <Value text={text} beat={beatOf(watch)} number={isNumber(property)} moves={moves(thing, property)} />;
}

// cellOf words what a client holds of a row, by what is kept of how it stands.
function cellOf(watch: State, c: Column, thing: Thing, row: Row, tick: number, isThere: boolean): Cell {
  const { outline } = watch;
  const { property } = row;
  const held = c.copy.things.get(thing.entity);
  const apart = c.apart.get(thing.entity)?.get(property?.name ?? "");
  if (!outline) return { text: "", sign: "=", behind: 0 };
  if (!property) {
    const sign = signOf(apart ?? "=", c, tick);
    return { text: apart && held ? ownerName(c.copy.clients, held) : "", ...sign };
  }
  const has = held !== undefined && property.name in held.values;
  const text = has ? format(property.type, present(outline, c.copy, held, property, tick)) : "";
  const standing = apart ?? (has || !isThere ? "=" : standingOf(kindOf(outline, thing), c, thing, property));
  if (standing === "–" && held?.withdrawn?.has(property.name)) return { text, sign: "∅", behind: 0 };
  return { text, ...signOf(standing, c, tick) };
}

type HeldProps = Cell & {
  name: string;
  beat: number;
  number: boolean;
  moves: boolean;
  expects: string; // what pressing the cell expects; empty while it expects nothing
};

const Held = memo(function Held(props: HeldProps) {
  const ground = props.sign === "≠" ? "bg-bad/10" : "";
  return (
    <div
      role="cell"
      data-column={props.name}
      className={`relative flex min-w-0 items-center gap-2 border-l border-line px-3 ${ground}`}
    >
      {props.expects && <ExpectCell name={props.name} what={props.expects} />}
      {props.text !== "" && <Value text={props.text} beat={props.beat} number={props.number} moves={props.moves} />}
      <span className="flex-1" />
      <Sign sign={props.sign} behind={props.behind} />
    </div>
  );
});

// ExpectCell lies over a cell while what is pressed is to be expected by a drill.
function ExpectCell({ name, what }: { name: string; what: string }) {
  const [client, entity, property, words] = what.split("/") as [string, string, string, string];
  return (
    <button
      className="absolute inset-0 cursor-pointer border border-dashed border-act/50 hover:bg-act/10"
      aria-label={`Expect what ${name} sees of ${words}`}
      onClick={() => void expectCell(Number(client), Number(entity), property)}
    />
  );
}

function Head(props: {
  column: Column;
  knowsOthers: boolean;
  tick: number;
  asking: boolean;
  onAsk: (n: number) => void;
  onClose: (n: number) => void;
}) {
  const c = props.column;
  const behind = c.waits ? props.tick - c.waits + 1 : 0;
  return (
    <>
      <div className="flex h-6 items-center gap-2 whitespace-nowrap">
        <Mark number={c.number} />
        <span className="min-w-0 truncate" title={`client ${c.number}, has confirmed tick ${c.seen}`}>
          {c.name}
        </span>
        <span className="flex-1" />
        {c.test && (
          <button
            className="plain"
            aria-label={`Close ${c.name}`}
            title="Close this test client"
            onClick={() => props.onClose(c.number)}
          >
            <X size={12} />
          </button>
        )}
      </div>
      <div className="flex h-5 items-center gap-2 text-xs font-normal whitespace-nowrap text-muted">
        {c.test && (
          <button
            className="h-6 cursor-pointer pr-1 font-semibold text-act underline"
            aria-pressed={props.asking}
            aria-label={`Ask as ${c.name}`}
            onClick={() => props.onAsk(c.number)}
          >
            Ask
          </button>
        )}
        <span className="truncate">
          {c.role}
          {c.test ? ", test" : ""}
        </span>
        {!props.knowsOthers && !c.waits && (
          <span className="text-bad" title="it takes other clients to be there than the server">
            ≠ who is there
          </span>
        )}
        {c.lost && <span className="text-bad">connection lost</span>}
        {behind > 0 && (
          <span className="text-warn" title={`${behind} ticks behind the server`}>
            +{behind}
          </span>
        )}
        {!!c.differences && (
          <span
            className="text-bad"
            title={`its copy was not what it should be ${c.differences} times; it was sent anew`}
          >
            ≠ {c.differences}
          </span>
        )}
        {c.bytes && <Bytes bytes={c.bytes} />}
      </div>
    </>
  );
}

function Bytes({ bytes }: { bytes: NonNullable<Column["bytes"]> }) {
  return (
    <span
      className={`tabular-nums ${bytes.waiting ? "text-warn" : ""}`}
      title={
        `was sent ${bytes.sent} of ${bytes.limit} bytes in the last second; ` +
        `something of ${bytes.waiting} entities waits`
      }
    >
      {`${(bytes.sent / 1000).toFixed(1)}/${bytes.limit / 1000} kB/s`}
      {!!bytes.waiting && ` … ${bytes.waiting}`}
    </span>
  );
}

function isNumber(property: Property | undefined): boolean {
  return property !== undefined && ["int", "time", "real"].includes(property.type.form);
}

// moves tells whether a value follows from a motion, or from where something else is: it changes without being sent.
function moves(thing: Thing | undefined, property: Property | undefined): boolean {
  const value = property && thing?.values[property.name];
  return value !== null && typeof value === "object" && ("from" in value || "attached" in value);
}

// beatOf counts half seconds. A mark ends with a beat and not by an animation, which would have the whole page styled
// anew in each frame.
function beatOf(s: State): number {
  return Math.floor((s.tick * 2) / (s.outline?.tick ?? 1));
}

// Value shows a value, and marks it for half a second to a second when it has changed; what moves by itself is not
// marked.
function Value({ text, beat, number, moves }: { text: string; beat: number; number: boolean; moves: boolean }) {
  const [{ shown, at }, setLast] = useState({ shown: text, at: -2 });
  if (shown !== text) setLast({ shown: text, at: moves ? at : beat });
  return (
    <span className={`truncate ${number ? "min-w-[6ch] text-right" : ""}`} title={text.length > 16 ? text : undefined}>
      <span className={`value ${beat - at < 2 ? "changed" : ""}`}>{text}</span>
    </span>
  );
}
