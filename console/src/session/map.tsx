// The map: where the server has what has a place, and where a client has it that is picked.

import { Maximize2, Minus, Plus } from "lucide-react";
import { useEffect, useMemo, useRef, useState } from "react";
import { api, message } from "../shared/api";
import { shapeOf } from "../shared/signs";
import { nearestStep } from "./draft";
import { useKeys } from "./keys";
import { endPick, usePick } from "./pick";
import {
  fitted,
  gridStep,
  rangesOf,
  spotsOf,
  toScreen,
  toWorld,
  underPointer,
  wallsOf,
  zoomed,
  type Plane,
  type Point,
  type Range,
  type Segment,
  type Size,
  type Spot,
} from "./plane";
import { useWatch, type Column } from "./watch";

const chip =
  "h-6 px-2 rounded-sm border border-line text-xs cursor-pointer whitespace-nowrap " +
  "aria-pressed:border-act aria-pressed:bg-act/10 aria-pressed:font-semibold";

// How many spots are named; of more only those that belong to somebody, are chosen, or stand apart.
const mostNamed = 60;
// How far a motion is drawn ahead, in seconds.
const ahead = 2;

// everyCopy stands for all clients where one can be picked.
const everyCopy = -1;
// How often a place that is dragged is written, in milliseconds.
const writeEvery = 100;

export function Map(props: {
  as: number; // the client whose copy is held against the server's, 0 for none, -1 for each
  hands?: Column; // the test client that is played: what it owns can be dragged
  selected: number; // an entity
  onAs: (client: number) => void;
  onSelect: (entity: number) => void;
}) {
  const watch = useWatch();
  const { outline, columns } = watch;
  const canvas = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState<Size>({ width: 0, height: 0 });
  const [plane, setPlane] = useState<Plane>();
  const [paths, setPaths] = useState(true);
  const [follows, setFollows] = useState(false);
  const [error, setError] = useState("");
  const wanted = usePick((s) => s.wanted);
  const picked = columns.find((c) => c.number === props.as);
  const spots = spotsOf(watch, picked, props.as === everyCopy);
  const ranges = picked ? rangesOf(watch, picked) : [];
  const walls = useMemo(() => (outline ? wallsOf(outline) : []), [outline]);
  const all = [...spots.map((s) => s.at), ...walls.flat()];
  const shown = plane ?? (size.width > 0 ? fitted(all, size) : undefined);
  const chosen = spots.find((s) => s.entity === props.selected);
  const seen = shown && follows && chosen ? { ...shown, middle: chosen.at } : shown;

  useEffect(() => {
    const element = canvas.current?.parentElement;
    if (!element) return undefined;
    const observer = new ResizeObserver(([entry]) => {
      if (entry) setSize({ width: entry.contentRect.width, height: entry.contentRect.height });
    });
    observer.observe(element);
    return () => observer.disconnect();
  }, []);

  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context || !seen || size.width === 0) return;
    const dense = window.devicePixelRatio || 1;
    context.setTransform(dense, 0, 0, dense, 0, 0);
    draw(context, { plane: seen, size, spots, walls, ranges, paths, selected: props.selected });
  });

  const zoom = (factor: number, at?: Point) => {
    if (seen) setPlane(zoomed(seen, size, at ?? [size.width / 2, size.height / 2], factor));
  };
  const move = (x: number, y: number) => {
    if (seen) setPlane({ ...seen, middle: [seen.middle[0] + x / seen.scale, seen.middle[1] + y / seen.scale] });
    setFollows(false);
  };
  const keys: Record<string, () => void> = {
    ArrowLeft: () => move(-40, 0),
    ArrowRight: () => move(40, 0),
    ArrowUp: () => move(0, 40),
    ArrowDown: () => move(0, -40),
    "+": () => zoom(1.25),
    "-": () => zoom(0.8),
    ...(wanted ? { Escape: endPick } : {}),
  };
  useKeys(keys);
  // drag writes where something is that belongs to the client that is played.
  const dragged = useRef<Dragged>(undefined);
  const drag = (d: Dragged, to: Point, now: number) => {
    const { writes, entity } = d.spot;
    if (!writes || !props.hands || now - d.last < writeEvery) return;
    d.last = now;
    const place = to.map((v) => nearestStep(writes.type, v));
    api.write(watch.id, props.hands.number, entity, writes.property, place).then(
      () => setError(""),
      (e) => setError(message(e)),
    );
  };
  const behind = picked?.waits ? watch.tick - picked.waits + 1 : 0;
  const apart = spots.filter((s) => s.held).length;
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="flex h-9 shrink-0 items-center gap-2 border-b border-line px-3 text-xs whitespace-nowrap">
        <select
          className={`${chip} max-w-72`}
          aria-label="Whose copy is held against the server's"
          value={props.as}
          onChange={(e) => props.onAs(Number(e.target.value))}
        >
          <option value={0}>as the server has it</option>
          <option value={everyCopy}>as the server and every copy has it</option>
          {columns.map((c) => (
            <option key={c.number} value={c.number}>
              as {c.name} sees it, against the server
            </option>
          ))}
        </select>
        <button className={chip} aria-pressed={paths} onClick={() => setPaths(!paths)}>
          paths
        </button>
        <select
          className={`${chip} max-w-44`}
          aria-label="Choose what has a place"
          value={props.selected}
          onChange={(e) => props.onSelect(Number(e.target.value))}
        >
          <option value={0}>choose an entity</option>
          {spots.map((s) => (
            <option key={s.entity} value={s.entity}>
              {s.name}
            </option>
          ))}
        </select>
        <button className={chip} aria-pressed={follows} disabled={!chosen} onClick={() => setFollows(!follows)}>
          follow
        </button>
        <button className="plain" aria-label="Zoom in" onClick={() => zoom(1.25)}>
          <Plus size={14} />
        </button>
        <button className="plain" aria-label="Zoom out" onClick={() => zoom(0.8)}>
          <Minus size={14} />
        </button>
        <button className="plain" aria-label="Show all" onClick={() => setPlane(undefined)}>
          <Maximize2 size={14} />
        </button>
        <span className="flex-1" />
        {error && (
          <span role="alert" className="truncate text-bad">
            {error}
          </span>
        )}
        {picked && (
          <span className={apart > 0 ? "text-warn" : "text-muted"}>
            {apart > 0 ? `${apart} elsewhere at ${picked.name}` : `all where the server has them`}
            {behind > 1 && `, +${behind} ticks`}
          </span>
        )}
        {seen && <span className="text-muted">1 square is {gridStep(seen.scale)}</span>}
      </div>
      <div className="relative min-h-0 flex-1">
        <canvas
          ref={canvas}
          className="absolute inset-0 h-full w-full"
          width={size.width * (window.devicePixelRatio || 1)}
          height={size.height * (window.devicePixelRatio || 1)}
          aria-hidden="true" // the sheet tells all of it in words, and the list above chooses
          onWheel={(e) => zoom(e.deltaY < 0 ? 1.15 : 1 / 1.15, at(e))}
          onPointerDown={(e) => {
            if (!seen) return;
            const kinds = wanted?.what === "entity" ? wanted.kinds : undefined;
            const spot = underPointer(
              spots.filter((s) => !kinds || kinds.includes(s.kind)),
              seen,
              size,
              at(e),
            );
            if (wanted?.what === "place") wanted.take(toWorld(seen, size, at(e)));
            if (wanted?.what === "entity" && spot) wanted.take(spot.entity);
            if (wanted && (spot || wanted.what === "place")) endPick();
            if (wanted) return;
            const isHandled = spot?.writes && spot.owner === props.hands?.number;
            if (spot && !isHandled) props.onSelect(spot.entity); // which would end the playing of the client
            dragged.current = isHandled ? { spot, last: 0 } : undefined;
            if (!spot || isHandled) e.currentTarget.setPointerCapture(e.pointerId);
          }}
          onPointerMove={(e) => {
            if (!e.currentTarget.hasPointerCapture(e.pointerId)) return;
            if (dragged.current && seen) drag(dragged.current, toWorld(seen, size, at(e)), e.timeStamp);
            else move(-e.movementX, e.movementY);
          }}
        />
        {wanted && (
          <p
            role="status"
            className="absolute top-3 left-1/2 -translate-x-1/2 rounded-sm border border-act bg-raised px-3 py-1"
          >
            Press {wanted.what === "place" ? "the place that" : "what"} {wanted.words}.{" "}
            <button className="link" onClick={endPick}>
              Cancel
            </button>
          </p>
        )}
        {chosen && props.as === everyCopy && <Copies spot={chosen} columns={columns} />}
        {spots.length === 0 && (
          <p className="absolute inset-0 p-4 text-muted">
            Nothing has a place: the map shows what has a property `pos` that is a vector.
          </p>
        )}
        <ul className="pointer-events-none absolute bottom-3 left-3 flex gap-4 rounded-sm border border-line bg-raised px-3 py-1 text-xs">
          <li>● where the server has it</li>
          {picked && <li className="text-warn">○ where {picked.name} has it</li>}
          {picked && <li className="text-muted">faded: not for {picked.name}</li>}
          {props.as === everyCopy && <li className="text-note">○ where each copy has it</li>}
          {ranges.map((r) => (
            <li key={r.words} className="text-act">
              ◯ {r.words} of {picked?.name}
            </li>
          ))}
          {props.hands && <li className="text-act">drag what is {props.hands.name}’s</li>}
          {paths && <li className="text-note">– – where it goes in {ahead} s</li>}
        </ul>
      </div>
    </div>
  );
}

type Dragged = { spot: Spot; last: number };

// Copies says in words where the server and each copy has what is chosen.
function Copies({ spot, columns }: { spot: Spot; columns: Column[] }) {
  const words = (at: Point, rate?: Point) =>
    `(${at.map((v) => v.toFixed(2)).join(", ")})` + (rate ? ` moves (${rate.join(", ")}) a second` : "");
  return (
    <table
      aria-label={`Where ${spot.name} is`}
      className="absolute top-3 right-3 border border-line bg-raised text-xs [&_td]:px-2 [&_th]:px-2"
    >
      <tbody>
        <tr>
          <th scope="row" className="font-normal">
            server
          </th>
          <td className="value">{words(spot.at, spot.rate)}</td>
        </tr>
        {columns.map((c) => {
          const held = spot.copies?.find((x) => x.number === c.number);
          return (
            <tr key={c.number}>
              <th scope="row" className="font-normal">
                {shapeOf(c.number)} {c.name}
              </th>
              <td className="value">{held ? words(held.at, held.rate) : "–"}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function at(e: { nativeEvent: { offsetX: number; offsetY: number } }): Point {
  return [e.nativeEvent.offsetX, e.nativeEvent.offsetY];
}

type Picture = {
  plane: Plane;
  size: Size;
  spots: Spot[];
  walls: Segment[];
  ranges: Range[];
  paths: boolean;
  selected: number;
};

// draw draws the map. Colours come from the page, so that both themes are served.
function draw(c: CanvasRenderingContext2D, p: Picture): void {
  const style = getComputedStyle(document.documentElement);
  const colour = (name: string) => style.getPropertyValue(`--${name}`).trim();
  const screen = (point: Point) => toScreen(p.plane, p.size, point);
  c.clearRect(0, 0, p.size.width, p.size.height);
  drawGrid(c, p, colour("line"));
  c.strokeStyle = colour("muted");
  c.lineWidth = 2;
  c.setLineDash([]);
  for (const [a, b] of p.walls) stroke(c, screen(a), screen(b));
  c.strokeStyle = colour("act");
  c.lineWidth = 1;
  c.setLineDash([2, 4]);
  for (const r of p.ranges) ring(c, screen(r.middle), r.radius * p.plane.scale);
  c.setLineDash([]);
  c.font = "12px system-ui, 'DejaVu Sans', sans-serif";
  c.textBaseline = "middle";
  const named = p.spots.length <= mostNamed;
  const taken: Box[] = [];
  const first = (s: Spot) => (s.entity === p.selected ? 0 : s.owner ? 1 : 2);
  for (const spot of p.spots.toSorted((a, b) => first(a) - first(b))) {
    const [x, y] = screen(spot.at);
    if (x < -200 || y < -50 || x > p.size.width + 200 || y > p.size.height + 50) continue;
    c.globalAlpha = spot.hidden ? 0.4 : 1;
    if (p.paths && spot.rate) {
      c.strokeStyle = colour("note");
      c.lineWidth = 1;
      c.setLineDash([4, 4]);
      stroke(c, [x, y], screen([spot.at[0] + ahead * spot.rate[0], spot.at[1] + ahead * spot.rate[1]]));
      c.setLineDash([]);
    }
    for (const copy of spot.copies ?? []) {
      const there = screen(copy.at);
      c.strokeStyle = colour("note");
      c.lineWidth = 1;
      ring(c, there, 4 + copy.number);
      if (copy.rate && p.paths) {
        c.setLineDash([1, 3 + copy.number]);
        stroke(c, there, screen([copy.at[0] + ahead * copy.rate[0], copy.at[1] + ahead * copy.rate[1]]));
        c.setLineDash([]);
      }
    }
    if (spot.held) {
      const there = screen(spot.held);
      c.strokeStyle = colour("warn");
      c.lineWidth = 1.5;
      stroke(c, [x, y], there);
      ring(c, there, 5);
    }
    if (spot.entity === p.selected) {
      c.strokeStyle = colour("act");
      c.lineWidth = 2;
      ring(c, [x, y], 11);
    }
    c.fillStyle = colour(spot.owner ? "ink" : "muted");
    c.textAlign = "center";
    if (spot.owner) c.fillText(shapeOf(spot.owner), x, y);
    else dot(c, [x, y], 3);
    if (!(named || spot.owner || spot.held || spot.entity === p.selected)) continue;
    // A name that would stand on another one is left out.
    const box: Box = [x + 12, y - 7, x + 12 + c.measureText(spot.name).width, y + (spot.held ? 21 : 7)];
    if (taken.some((t) => overlap(t, box)) && spot.entity !== p.selected) continue;
    taken.push(box);
    label(c, spot, [x, y], colour);
  }
  c.globalAlpha = 1;
}

type Box = [left: number, top: number, right: number, bottom: number];

function overlap(a: Box, b: Box): boolean {
  return a[0] < b[2] && b[0] < a[2] && a[1] < b[3] && b[1] < a[3];
}

function drawGrid(c: CanvasRenderingContext2D, p: Picture, colour: string): void {
  const step = gridStep(p.plane.scale) * p.plane.scale;
  const [x0, y0] = toScreen(p.plane, p.size, [0, 0]);
  c.strokeStyle = colour;
  for (let x = x0 % step; x < p.size.width; x += step) {
    c.lineWidth = Math.abs(x - x0) < 0.5 ? 1.5 : 0.5;
    stroke(c, [x, 0], [x, p.size.height]);
  }
  for (let y = y0 % step; y < p.size.height; y += step) {
    c.lineWidth = Math.abs(y - y0) < 0.5 ? 1.5 : 0.5;
    stroke(c, [0, y], [p.size.width, y]);
  }
}

function label(c: CanvasRenderingContext2D, spot: Spot, [x, y]: Point, colour: (name: string) => string): void {
  c.textAlign = "left";
  c.fillStyle = colour("ink");
  const height = spot.height !== undefined ? ` ↑${spot.height}` : "";
  c.fillText(spot.name + height, x + 12, y);
  if (!spot.held) return;
  const away = Math.hypot(spot.held[0] - spot.at[0], spot.held[1] - spot.at[1]);
  c.fillStyle = colour("warn");
  c.fillText(`${away.toFixed(2)} away`, x + 12, y + 14);
}

function stroke(c: CanvasRenderingContext2D, from: Point, to: Point): void {
  c.beginPath();
  c.moveTo(...from);
  c.lineTo(...to);
  c.stroke();
}

function dot(c: CanvasRenderingContext2D, [x, y]: Point, radius: number): void {
  c.beginPath();
  c.arc(x, y, radius, 0, 2 * Math.PI);
  c.fill();
}

function ring(c: CanvasRenderingContext2D, [x, y]: Point, radius: number): void {
  c.beginPath();
  c.arc(x, y, radius, 0, 2 * Math.PI);
  c.stroke();
}
