// The comparison sheet: rows are entities and their properties, columns the server and each client. Only the rows that
// are in sight are drawn.

import { useVirtualizer } from "@tanstack/react-virtual";
import { ChevronDown, ChevronRight, Pin, PinOff, X } from "lucide-react";
import { memo, useCallback, useEffect, useRef, useState, type RefObject } from "react";
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
    overscan: 3,
    scrollMargin: headHeight,
  });
  const pressed = useRef<Press>(undefined);
  useEffect(() => {
    const does = { select: props.onSelect, pin: props.onPin, fold: props.onFold };
    pressed.current = (what, key) => does[what](key);
  });
  const press = useCallback<Press>((what, key) => pressed.current?.(what, key), []);
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
  const names = fixed.map((w) => `${w}px`).join(" ");
  const template = `${before}px repeat(${Math.max(seen.length, 1)}, ${each}px)`;
  const shown = rows.getVirtualItems().map((item) => ({
    row: props.rows[item.index] as Row,
    index: item.index,
    top: item.start - headHeight,
  }));
  return (
    <div ref={scroller} className="min-h-0 flex-1 overflow-auto">
      <div
        className="grid"
        style={{
          gridTemplateRows: `${headHeight}px ${rows.getTotalSize()}px`,
          minWidth: left + each * columns.length,
        }}
      >
        {/* The halves of a row stand in two places, so that one element stays in sight and not one for each row. */}
        <div
          role="table"
          aria-label="Values of the server and of each client"
          aria-rowcount={props.rows.length + 1}
          className="contents"
        >
          <div
            role="row"
            className="sticky top-0 z-10 col-1 row-[1/3] grid self-start border-b border-ink bg-paper font-semibold"
            style={{ gridTemplateColumns: `${left}px ${template}`, height: headHeight }}
          >
            <div role="presentation" className="sticky left-0 z-1 grid bg-paper" style={{ gridTemplateColumns: names }}>
              {["Entity", "Property", "Server"].map((h) => (
                <div key={h} role="columnheader" className="flex items-end px-3 pb-1">
                  {h}
                </div>
              ))}
            </div>
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
          <div
            role="presentation"
            className="sticky left-0 z-1 col-1 row-2 justify-self-start bg-paper"
            style={{ width: left }}
          >
            {shown.map(({ row, index, top }) => (
              <div
                key={row.key}
                role="row"
                aria-rowindex={index + 2}
                aria-owns={row.thing && `values-${row.key}`}
                data-row={row.thing ? nameOfRow(row) : row.name}
                className={`group ${rowClass(row, index, props.selected)}`}
                style={{ gridTemplateColumns: names, height: rowHeight, top }}
              >
                {row.thing ? (
                  <>
                    <Names row={row} onPress={press} />
                    <ServerCell row={row} thing={row.thing} watch={watch} />
                  </>
                ) : (
                  <Folded row={row} onFold={props.onFold} />
                )}
              </div>
            ))}
          </div>
        </div>
        <div className="relative col-1 row-2" style={{ marginLeft: left }}>
          {shown.map(({ row, index, top }) => (
            <div
              key={row.key}
              id={`values-${row.key}`}
              role="presentation"
              data-values={row.thing && nameOfRow(row)}
              className={rowClass(row, index, props.selected)}
              style={{ gridTemplateColumns: template, height: rowHeight, top }}
            >
              {row.thing && <Values row={row} thing={row.thing} watch={watch} columns={inSight} width={each} />}
            </div>
          ))}
        </div>
      </div>
    </div>
  );
}

// nameOfRow names what a row shows.
function nameOfRow(row: Row): string {
  return `${row.name}.${row.property?.name ?? "owner"}`;
}

// rowClass gives the looks of one half of a row. Nothing in a row is cut off by the browser, moved or made transparent:
// each such part is composed by itself, which with some hundred of them takes longer than to draw the sheet.
function rowClass(row: Row, index: number, selected: string): string {
  return (
    "absolute left-0 grid w-full items-stretch whitespace-nowrap [contain:size_layout] " +
    (row.first && index > 0 ? "border-t border-line " : "") +
    (row.key === selected ? "bg-chosen" : "hover:bg-raised")
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

function Folded({ row, onFold }: { row: Row; onFold: (kind: string) => void }) {
  return (
    <div role="rowheader" className="col-span-3 flex items-center px-1">
      <button className="plain w-full justify-start! font-semibold text-ink!" onClick={() => onFold(row.key)}>
        <ChevronRight size={14} aria-hidden="true" /> {row.name}
        <span className="pl-2 font-normal text-muted">{row.folded} folded</span>
      </button>
    </div>
  );
}

// Widths of characters, in px: of values, which are all as wide, and what names take at most on the whole.
const digitWidth = 7.3;
const letterWidth = 7.5;

// cut shortens a text that is wider than there is room for.
function cut(text: string, width: number, each: number): string {
  const room = Math.floor(width / each);
  return text.length > room ? `${text.slice(0, Math.max(room - 1, 0))}…` : text;
}

type Press = (what: "select" | "pin" | "fold", key: string) => void;

// Names is what a row shows, in the half that stays in sight. It is drawn anew only when that is another: there are
// icons in it, which take longer than a value.
const Names = memo(function Names({ row, onPress }: { row: Row; onPress: Press }) {
  const { property } = row;
  const kind = row.thing?.kind ?? row.key;
  const name = property?.name ?? "owner";
  return (
    <>
      <div role="cell" className="flex items-center pl-1">
        {row.first && (
          <button
            className="plain w-full justify-start! font-semibold text-ink!"
            title={`${row.name}: fold all of the kind ${kind}`}
            aria-label={`${row.name}: fold the kind ${kind}`}
            onClick={() => onPress("fold", kind)}
          >
            <ChevronDown size={14} aria-hidden="true" className="shrink-0 text-muted" />
            <span>{cut(row.name, fixed[0] - 24, letterWidth)}</span>
          </button>
        )}
      </div>
      <div role="rowheader" className="flex items-center gap-1 pl-3">
        <button
          className="h-6 min-w-0 flex-1 cursor-pointer text-left"
          title={name}
          onClick={() => onPress("select", row.key)}
        >
          <span className={property ? "" : "text-muted"}>
            {cut(name, fixed[1] - (property?.follows ? 84 : 42), letterWidth)}
          </span>
          {property?.follows && <span className="text-muted"> moves</span>}
        </button>
        <button
          className={`plain min-w-6! ${row.pinned ? "" : "text-transparent group-hover:text-muted focus-visible:text-muted"}`}
          aria-pressed={!!row.pinned}
          aria-label={`${row.pinned ? "Unpin" : "Pin"} ${nameOfRow(row)}`}
          onClick={() => onPress("pin", row.key)}
        >
          {row.pinned ? <PinOff size={12} /> : <Pin size={12} />}
        </button>
      </div>
    </>
  );
});

// ServerCell is what the server holds of a row.
function ServerCell({ row, thing, watch }: { row: Row; thing: Thing; watch: State }) {
  const { property } = row;
  const expecting = useDrill((s) => s.expecting);
  return (
    <div role="cell" data-column="server" className="relative flex min-w-0 items-center border-l border-line px-3">
      {expecting && property && (
        <ExpectCell name="the server" what={`0/${thing.entity}/${property.name}/${nameOfRow(row)}`} />
      )}
      <ServerValue row={row} thing={thing} watch={watch} />
    </div>
  );
}

// Values is the half of a row with what clients hold, of those that are in sight.
function Values(props: { row: Row; thing: Thing; watch: State; columns: Column[]; width: number }) {
  const { row, thing, watch, columns } = props;
  const { property } = row;
  const expecting = useDrill((s) => s.expecting);
  const isThere = watch.server.things.has(thing.entity);
  return (
    <>
      <div role="presentation" />
      {columns.map((c) => (
        <Held
          key={c.number}
          name={c.name}
          beat={beatOf(watch)}
          number={isNumber(property)}
          moves={moves(c.copy.things.get(thing.entity), property)}
          expects={expecting && property ? `${c.number}/${thing.entity}/${property.name}/${nameOfRow(row)}` : ""}
          width={props.width}
          {...cellOf(watch, c, thing, row, watch.tick, isThere)}
        />
      ))}
    </>
  );
}

function ServerValue({ row, thing, watch }: { row: Row; thing: Thing; watch: State }) {
  const { outline, server, tick } = watch;
  const { property } = row;
  if (!outline) return null;
  if (!property) return <>{row.gone ? "gone" : cut(ownerName(server.clients, thing), fixed[2] - 24, letterWidth)}</>;
  const text = format(property.type, present(outline, server, thing, property, tick));
  return (
    <Value
      text={text}
      beat={beatOf(watch)}
      number={isNumber(property)}
      moves={moves(thing, property)}
      width={fixed[2] - 24}
    />
  );
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
  width: number; // px
};

const signWidth = 36; // px, with the gap before it

const Held = memo(function Held(props: HeldProps) {
  const ground = props.sign === "≠" ? "bg-bad/10" : "";
  return (
    <div
      role="cell"
      data-column={props.name}
      className={`relative flex min-w-0 items-center gap-2 border-l border-line px-3 ${ground}`}
    >
      {props.expects && <ExpectCell name={props.name} what={props.expects} />}
      {props.text !== "" && (
        <Value
          text={props.text}
          beat={props.beat}
          number={props.number}
          moves={props.moves}
          width={props.width - 24 - signWidth}
        />
      )}
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
function Value(props: { text: string; beat: number; number: boolean; moves: boolean; width: number }) {
  const { text, beat } = props;
  const [{ shown, at }, setLast] = useState({ shown: text, at: -2 });
  if (shown !== text) setLast({ shown: text, at: props.moves ? at : beat });
  const short = cut(text, props.width, digitWidth);
  return (
    <span className={props.number ? "min-w-[6ch] text-right" : ""} title={short === text ? undefined : text}>
      <span className={`value ${beat - at < 2 ? "changed" : ""}`}>{short}</span>
    </span>
  );
}
