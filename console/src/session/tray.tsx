// The tray: what happened, newest first.

import { Tabs } from "radix-ui";
import { memo, useCallback, useDeferredValue, useState } from "react";
import type { Decision } from "../shared/api";
import { Mark, shapeOf, Verdict } from "../shared/signs";
import { keyOf } from "./flow";
import { FlowChart } from "./flowchart";
import { entriesOf, type Entry, type Sort } from "./timeline";
import { useWatch, type State } from "./watch";

const tab =
  "px-3 h-8 text-muted cursor-pointer data-[state=active]:text-ink data-[state=active]:font-semibold " +
  "data-[state=active]:border-b-2 data-[state=active]:border-act";

const chip =
  "h-6 px-2 rounded-sm border border-line text-xs cursor-pointer aria-pressed:border-act aria-pressed:bg-act/10";

const sorts: [Sort, string][] = [
  ["request", "requests"],
  ["event", "events"],
  ["coming", "who comes and goes"],
  ["fault", "faults"],
];

export function Tray() {
  const watch = useDeferredValue(useWatch()); // the sheet goes first
  const { faults, phase } = watch;
  const [tabOf, setTab] = useState("line");
  const [shown, setShown] = useState<Set<Sort>>(() => new Set(sorts.map(([sort]) => sort)));
  const [flow, setFlow] = useState<Decision>();
  const follow = useCallback((d: Decision) => {
    setFlow(d);
    setTab("flow");
  }, []);
  const toggle = (sort: Sort) => {
    const next = new Set(shown);
    if (!next.delete(sort)) next.add(sort);
    setShown(next);
  };
  const isLive = phase !== "closed";
  const entries = tabOf === "line" ? entriesOf(watch, shown) : [];
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
            <Tabs.Trigger className={tab} value="faults">
              Faults {faults && <span className="value text-bad">{faults.count}</span>}
            </Tabs.Trigger>
          )}
        </Tabs.List>
        <span className="flex-1" />
        {isLive && tabOf === "line" && (
          <div className="flex gap-2" role="group" aria-label="What the time line shows">
            {sorts.map(([sort, words]) => (
              <button key={sort} className={chip} aria-pressed={shown.has(sort)} onClick={() => toggle(sort)}>
                {words}
              </button>
            ))}
          </div>
        )}
      </div>
      <Tabs.Content value="line" className="min-h-0 flex-1 overflow-auto">
        {entries.length === 0 && (
          <p className="px-4 py-2 text-muted">
            {shown.size > 0
              ? "Nothing has happened yet. Ask as a test client, or let a client play."
              : "Choose above what is to be shown."}
          </p>
        )}
        <table className="w-full border-collapse" aria-label="Time line">
          <tbody>
            {entries.slice(0, mostLines).map((e) => (
              <Line
                key={e.key}
                entry={e}
                arrived={e.sort === "request" && isLive ? arrivals(watch, e.decision) : namesOf(watch, e)}
                onFollow={isLive ? follow : undefined}
              />
            ))}
          </tbody>
        </table>
      </Tabs.Content>
      <Tabs.Content value="flow" className="min-h-0 flex-1 overflow-auto">
        <FlowChart decision={flow} />
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
    </Tabs.Root>
  );
}

// How many lines are drawn; all are kept.
const mostLines = 60;

type LineProps = { entry: Entry; arrived: string; onFollow?: (d: Decision) => void };

const Line = memo(
  function Line({ entry: e, arrived, onFollow }: LineProps) {
    return (
      <tr className="border-b border-line">
        <td className="value w-20 px-3 text-right text-muted">{e.tick}</td>
        <td className="w-36 px-3 whitespace-nowrap">
          {e.side ? (
            <>
              <Mark number={e.side.number} /> {e.side.name}
            </>
          ) : (
            <span className="text-muted">server</span>
          )}
        </td>
        <What entry={e} />
        <td className="value px-3 whitespace-nowrap text-muted">
          {e.sort === "request" && e.decision.check_text
            ? `line ${e.decision.line}: check ${e.decision.check_text}`
            : arrived}
        </td>
        <td className="w-16 px-3 text-right">
          {onFollow && e.sort === "request" && (
            <button
              className="h-6 cursor-pointer px-1 text-act underline"
              aria-label={`Flow of ${asked(e.decision)} by ${e.decision.client.name} in tick ${e.tick}`}
              onClick={() => onFollow(e.decision)}
            >
              Flow
            </button>
          )}
        </td>
      </tr>
    );
  },
  (a, b) => a.entry.key === b.entry.key && a.arrived === b.arrived && a.onFollow === b.onFollow,
);

function What({ entry: e }: { entry: Entry }) {
  switch (e.sort) {
    case "request":
      return (
        <>
          <td className="value w-64 px-3">{asked(e.decision)}</td>
          <td className="px-3">
            <Verdict outcome={e.decision.outcome} />
            {e.decision.reason && <>: {e.decision.reason}</>}
            {e.decision.stage && <span className="text-muted"> ({e.decision.stage})</span>}
          </td>
        </>
      );
    case "event":
      return (
        <>
          <td className="value w-64 px-3 text-note">{e.told.event.event}</td>
          <td className="value px-3">
            {Object.entries(e.told.event.values)
              .map(([name, value]) => `${name} ${JSON.stringify(value)}`)
              .join(", ")}
          </td>
        </>
      );
    case "coming":
      return (
        <>
          <td className="w-64 px-3 text-muted">{e.came ? "comes" : "is gone"}</td>
          <td className="px-3 text-muted">{e.side?.role}</td>
        </>
      );
    case "fault":
      return (
        <>
          <td className="w-64 px-3">
            {e.fault.in} {e.fault.times > 1 && <span className="value text-muted">×{e.fault.times}</span>}
          </td>
          <td className="px-3 text-bad">! {e.fault.reason}</td>
        </>
      );
  }
}

// namesOf says whom an event was told, and where something failed.
function namesOf(s: State, e: Entry): string {
  if (e.sort === "fault") return `line ${e.fault.line} of ${e.fault.file}, ${e.fault.times} times`;
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
