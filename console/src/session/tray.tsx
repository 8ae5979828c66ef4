// The tray: what happened, newest first.

import { useVirtualizer } from "@tanstack/react-virtual";
import { Tabs } from "radix-ui";
import { lazy, memo, Suspense, useCallback, useEffect, useRef, useState } from "react";
import type { Decision } from "../shared/api";
import { Mark, shapeOf, Verdict } from "../shared/signs";
import { keyOf } from "./flow";
import { FlowChart } from "./flowchart";
import { Moment } from "./moment";
import { entriesOf, type Entry, type Sort } from "./timeline";
import { openTray, useTray, type TrayTab } from "./traystate";
import { useWatch, type State } from "./watch";

const TrafficView = lazy(() => import("./trafficview"));
const Acts = lazy(() => import("./acts"));
const DrillTab = lazy(() => import("./drilltab"));

const tab =
  "px-3 h-8 text-muted cursor-pointer data-[state=active]:text-ink data-[state=active]:font-semibold " +
  "data-[state=active]:border-b-2 data-[state=active]:border-act";

const chip =
  "h-6 px-2 rounded-sm border border-line text-xs cursor-pointer aria-pressed:border-act aria-pressed:bg-act/10";

const sorts: [Sort, string][] = [
  ["request", "requests"],
  ["event", "events"],
  ["coming", "who comes and goes"],
  ["log", "log lines"],
  ["fault", "faults"],
];

export function Tray() {
  const watch = useWatchNowAndThen();
  const { faults, phase } = watch;
  const { tab: tabOf, outcome } = useTray();
  const setTab = (next: string) => openTray(next as TrayTab);
  const [shown, setShown] = useState<Set<Sort>>(() => new Set(sorts.map(([sort]) => sort)));
  const [flow, setFlow] = useState<Decision>();
  const follow = useCallback((d: Decision) => {
    setFlow(d);
    openTray("flow");
  }, []);
  const toggle = (sort: Sort) => {
    const next = new Set(shown);
    if (!next.delete(sort)) next.add(sort);
    setShown(next);
  };
  const isLive = phase !== "closed";
  const entries = tabOf === "line" ? entriesOf(watch, shown, outcome) : [];
  return (
    <Tabs.Root
      value={tabOf}
      onValueChange={setTab}
      className="flex h-52 shrink-0 flex-col border-t border-line bg-raised"
    >
      <div className="flex items-center border-b border-line pr-4">
        <Tabs.List className="flex px-1" aria-label="What happened">
          <Tabs.Trigger className={tab} value="line">
            Time line
          </Tabs.Trigger>
          {isLive && (
            <Tabs.Trigger className={tab} value="flow">
              Flow
            </Tabs.Trigger>
          )}
          {isLive && (
            <Tabs.Trigger className={tab} value="traffic">
              Traffic
            </Tabs.Trigger>
          )}
          {isLive && watch.id > 0 && (
            <Tabs.Trigger className={tab} value="drill">
              Drill {watch.session?.seed && <span className="text-bad">●</span>}
            </Tabs.Trigger>
          )}
          {isLive && (
            <Tabs.Trigger className={tab} value="faults">
              Faults {faults && <span className="value text-bad">{faults.count}</span>}
            </Tabs.Trigger>
          )}
          {isLive && watch.id > 0 && (
            <Tabs.Trigger className={tab} value="acts">
              Operators
            </Tabs.Trigger>
          )}
        </Tabs.List>
        <span className="flex-1" />
        {isLive && tabOf === "line" && (
          <div className="flex gap-2" role="group" aria-label="What the time line shows">
            {outcome && (
              <button className={chip} aria-pressed onClick={() => openTray("line")}>
                only {outcome} ✕
              </button>
            )}
            {sorts.map(([sort, words]) => (
              <button key={sort} className={chip} aria-pressed={shown.has(sort)} onClick={() => toggle(sort)}>
                {words}
              </button>
            ))}
          </div>
        )}
        {isLive && (
          <div className="ml-4 border-l border-line pl-4">
            <Moment />
          </div>
        )}
      </div>
      <Tabs.Content value="line" className="flex min-h-0 flex-1 flex-col">
        {entries.length === 0 && (
          <p className="px-4 py-2 text-muted">
            {shown.size > 0
              ? "Nothing has happened yet. Ask as a test client, or let a client play."
              : "Choose above what is to be shown."}
          </p>
        )}
        {entries.length > 0 && <Lines entries={entries} watch={watch} onFollow={isLive ? follow : undefined} />}
      </Tabs.Content>
      <Tabs.Content value="flow" className="min-h-0 flex-1 overflow-auto">
        <FlowChart decision={flow} />
      </Tabs.Content>
      <Tabs.Content value="traffic" className="min-h-0 flex-1">
        <Suspense fallback={<p className="px-4 py-2 text-muted">Reading…</p>}>
          <TrafficView />
        </Suspense>
      </Tabs.Content>
      <Tabs.Content value="drill" className="min-h-0 flex-1">
        <Suspense fallback={<p className="px-4 py-2 text-muted">Reading…</p>}>
          <DrillTab />
        </Suspense>
      </Tabs.Content>
      <Tabs.Content value="faults" className="min-h-0 flex-1 overflow-auto">
        {!faults && <p className="px-4 py-2 text-muted">Nothing has failed inside.</p>}
        <table className="w-full border-collapse" aria-label="Faults">
          <tbody>
            {faults?.last.map((f) => (
              <tr key={`${f.in}/${f.file}/${f.line}/${f.reason}`} className="border-b border-line">
                <td className="value w-20 px-3 text-right text-muted">{f.tick}</td>
                <td className="w-72 px-3 whitespace-nowrap">
                  {f.in} {f.times > 1 && <span className="value text-muted">×{f.times}</span>}
                </td>
                <td className="px-3 text-bad">! {f.reason}</td>
                <td className="value px-3 text-muted">{f.about}</td>
                <td className="value px-3 whitespace-nowrap text-muted">
                  line {f.line} of {f.file}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Tabs.Content>
      <Tabs.Content value="acts" className="min-h-0 flex-1 overflow-auto">
        <Suspense fallback={<p className="px-4 py-2 text-muted">Reading…</p>}>
          <Acts />
        </Suspense>
      </Tabs.Content>
    </Tabs.Root>
  );
}

// useWatchNowAndThen gives the state as it was at most a fifth of a second ago: nobody reads lines that move with each
// tick, and to draw them would take more than to draw the sheet.
function useWatchNowAndThen(): State {
  const [state, setState] = useState(() => useWatch.getState());
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined;
    const draw = () => {
      timer = undefined;
      setState(useWatch.getState());
    };
    const stop = useWatch.subscribe(() => (timer ??= setTimeout(draw, 200)));
    return () => {
      stop();
      clearTimeout(timer);
    };
  }, []);
  return state;
}

type Follow = ((d: Decision) => void) | undefined;

const lineHeight = 25; // px

// Lines draws the lines that are in sight.
function Lines({ entries, watch, onFollow }: { entries: Entry[]; watch: State; onFollow: Follow }) {
  const scroller = useRef<HTMLDivElement>(null);
  // eslint-disable-next-line react-hooks/incompatible-library -- what it returns goes to no memoized component
  const lines = useVirtualizer({
    count: entries.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => lineHeight,
    overscan: 2,
  });
  return (
    <div
      ref={scroller}
      className="min-h-0 flex-1 overflow-auto"
      role="table"
      aria-label="Time line"
      aria-rowcount={entries.length}
      // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- what scrolls has to be reached by keyboard
      tabIndex={0}
    >
      <div className="relative" style={{ height: lines.getTotalSize() }}>
        {lines.getVirtualItems().map((item) => {
          const e = entries[item.index] as Entry;
          return (
            <Line
              key={e.key}
              entry={e}
              index={item.index}
              arrived={e.sort === "request" && onFollow ? arrivals(watch, e.decision) : namesOf(watch, e)}
              onFollow={onFollow}
            />
          );
        })}
      </div>
    </div>
  );
}

type LineProps = { entry: Entry; index: number; arrived: string; onFollow: Follow };

const cell = "px-3 truncate";

const Line = memo(
  function Line({ entry: e, index, arrived, onFollow }: LineProps) {
    const side =
      e.sort === "request" && e.decision.check_text
        ? `line ${e.decision.line}: check ${e.decision.check_text}`
        : arrived;
    return (
      <div
        role="row"
        aria-rowindex={index + 1}
        className="absolute left-0 grid w-full grid-cols-[5rem_9rem_16rem_minmax(0,1fr)_minmax(0,1fr)_4rem] items-center border-b border-line [contain:strict]"
        style={{ height: lineHeight, top: index * lineHeight }}
      >
        <div role="cell" className={`value ${cell} text-right text-muted`}>
          {e.tick}
        </div>
        <div role="cell" className={cell}>
          {e.side ? (
            <>
              <Mark number={e.side.number} /> {e.side.name}
            </>
          ) : (
            <span className="text-muted">server</span>
          )}
        </div>
        <What entry={e} />
        <div role="cell" className={`value ${cell} text-muted`} title={side}>
          {side}
        </div>
        <div role="cell" className="px-3 text-right">
          {onFollow && e.sort === "request" && (
            <button
              className="h-6 cursor-pointer px-1 text-act underline"
              aria-label={`Flow of ${asked(e.decision)} by ${e.decision.client.name} in tick ${e.tick}`}
              onClick={() => onFollow(e.decision)}
            >
              Flow
            </button>
          )}
        </div>
      </div>
    );
  },
  (a, b) => a.entry.key === b.entry.key && a.index === b.index && a.arrived === b.arrived && a.onFollow === b.onFollow,
);

function What({ entry: e }: { entry: Entry }) {
  switch (e.sort) {
    case "request":
      return (
        <>
          <div role="cell" className={`value ${cell}`} title={asked(e.decision)}>
            {asked(e.decision)}
          </div>
          <div role="cell" className={cell}>
            <Verdict outcome={e.decision.outcome} />
            {e.decision.reason && <>: {e.decision.reason}</>}
            {e.decision.stage && <span className="text-muted"> ({e.decision.stage})</span>}
          </div>
        </>
      );
    case "event":
      return (
        <>
          <div role="cell" className={`value ${cell} text-note`}>
            {e.told.event.event}
          </div>
          <div role="cell" className={`value ${cell}`}>
            {Object.entries(e.told.event.values)
              .map(([name, value]) => `${name} ${JSON.stringify(value)}`)
              .join(", ")}
          </div>
        </>
      );
    case "coming":
      return (
        <>
          <div role="cell" className={`${cell} text-muted`}>
            {e.came ? "comes" : "is gone"}
          </div>
          <div role="cell" className={`${cell} text-muted`}>
            {e.side?.role}
          </div>
        </>
      );
    case "log":
      return (
        <>
          <div role="cell" className={`${cell} text-muted`}>
            logs
          </div>
          <div role="cell" className={`col-span-1 ${cell}`} title={e.log.text}>
            “{e.log.text}”
          </div>
        </>
      );
    case "refused":
      return (
        <>
          <div role="cell" className={`value ${cell}`}>
            {e.refused.type} {e.refused.property}
          </div>
          <div role="cell" className={cell}>
            <Verdict outcome={e.refused.outcome} />
            {e.refused.reason && <>: {e.refused.reason}</>}
          </div>
        </>
      );
    case "fault":
      return (
        <>
          <div role="cell" className={cell}>
            {e.fault.in} {e.fault.times > 1 && <span className="value text-muted">×{e.fault.times}</span>}
          </div>
          <div role="cell" className={`${cell} text-bad`}>
            ! {e.fault.reason}
          </div>
        </>
      );
  }
}

// namesOf says whom an event was told, and where something failed.
function namesOf(s: State, e: Entry): string {
  if (e.sort === "fault") return `line ${e.fault.line} of ${e.fault.file}, ${e.fault.times} times`;
  if (e.sort === "log") {
    if (e.side) return `its copy was at tick ${e.log.seen ?? 0}`;
    const names = (e.log.clients ?? []).map((n) => s.server.clients.find((c) => c.number === n)?.name ?? n);
    return `to ${names.join(", ") || "nobody"}`;
  }
  if (e.sort !== "event") return "";
  const names = e.told.clients.map((n) => s.server.clients.find((c) => c.number === n)?.name ?? n);
  return `told ${names.join(", ") || "nobody"}`;
}

// arrivals says after how many ticks each client had confirmed a decision's tick.
function arrivals(s: State, d: Decision): string {
  const delivered = s.delivered.get(keyOf(d));
  if (!delivered) return "";
  return s.columns
    .filter((c) => c.from <= d.tick)
    .slice(0, 8)
    .map((c) => {
      const tick = delivered.get(c.number);
      return `${shapeOf(c.number)} ${tick === undefined ? "…" : `+${tick - d.tick}`}`;
    })
    .join(" · ");
}

function asked(d: Decision): string {
  const args = Array.isArray(d.args) ? d.args : [];
  return `${d.request}(${args.map((a) => (typeof a === "string" ? a : JSON.stringify(a))).join(", ")})`;
}
