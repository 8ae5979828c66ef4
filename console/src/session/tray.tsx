// The tray: what happened, newest first.

import { Tabs } from "radix-ui";
import { memo, useCallback, useState } from "react";
import type { Decision } from "../shared/api";
import { Mark, shapeOf, Verdict } from "../shared/signs";
import { keyOf } from "./flow";
import { FlowChart } from "./flowchart";
import { useWatch, type State } from "./watch";

const tab =
  "px-3 h-8 text-muted cursor-pointer data-[state=active]:text-ink data-[state=active]:font-semibold " +
  "data-[state=active]:border-b-2 data-[state=active]:border-act";

export function Tray() {
  const watch = useWatch();
  const { decisions, told, faults, server, phase } = watch;
  const [tabOf, setTab] = useState("decisions");
  const [flow, setFlow] = useState<Decision>();
  const follow = useCallback((d: Decision) => {
    setFlow(d);
    setTab("flow");
  }, []);
  return (
    <Tabs.Root
      value={tabOf}
      onValueChange={setTab}
      className="flex h-52 shrink-0 flex-col border-t border-line bg-raised"
    >
      <Tabs.List className="flex border-b border-line px-1" aria-label="What happened">
        <Tabs.Trigger className={tab} value="decisions">
          Decisions
        </Tabs.Trigger>
        {phase !== "closed" && (
          <Tabs.Trigger className={tab} value="flow">
            Flow
          </Tabs.Trigger>
        )}
        {phase !== "closed" && (
          <Tabs.Trigger className={tab} value="events">
            Events
          </Tabs.Trigger>
        )}
        {phase !== "closed" && (
          <Tabs.Trigger className={tab} value="faults">
            Faults {faults && <span className="value text-bad">{faults.count}</span>}
          </Tabs.Trigger>
        )}
      </Tabs.List>
      <Tabs.Content value="decisions" className="min-h-0 flex-1 overflow-auto">
        {decisions.length === 0 && (
          <p className="px-4 py-2 text-muted">
            No request was decided yet. Ask as a test client, or let a client play.
          </p>
        )}
        <table className="w-full border-collapse" aria-label="Decisions">
          <tbody>
            {decisions.map((d) => (
              <DecisionRow
                key={keyOf(d)}
                decision={d}
                arrived={phase === "closed" ? "" : arrivals(watch, d)}
                onFollow={phase === "closed" ? undefined : follow}
              />
            ))}
          </tbody>
        </table>
      </Tabs.Content>
      <Tabs.Content value="flow" className="min-h-0 flex-1 overflow-auto">
        <FlowChart decision={flow} />
      </Tabs.Content>
      <Tabs.Content value="events" className="min-h-0 flex-1 overflow-auto">
        {told.length === 0 && <p className="px-4 py-2 text-muted">No event was told yet.</p>}
        <table className="w-full border-collapse" aria-label="Events">
          <tbody>
            {told.map((t) => (
              <tr key={t.key} className="border-b border-line">
                <td className="value w-20 px-3 text-right text-muted">{t.tick}</td>
                <td className="w-56 px-3 text-note">{t.event.event}</td>
                <td className="value px-3">
                  {Object.entries(t.event.values)
                    .map(([name, value]) => `${name} ${JSON.stringify(value)}`)
                    .join(", ")}
                </td>
                <td className="px-3 text-muted">
                  told{" "}
                  {t.clients.map((n) => server.clients.find((c) => c.number === n)?.name ?? n).join(", ") || "nobody"}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
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

type DecisionRowProps = { decision: Decision; arrived: string; onFollow?: (d: Decision) => void };

const DecisionRow = memo(function DecisionRow({ decision: d, arrived, onFollow }: DecisionRowProps) {
  return (
    <tr className="border-b border-line">
      <td className="value w-20 px-3 text-right text-muted">{d.tick}</td>
      <td className="w-36 px-3 whitespace-nowrap">
        <Mark number={d.client.number} /> {d.client.name}
      </td>
      <td className="value w-64 px-3">{asked(d)}</td>
      <td className="px-3">
        <Verdict outcome={d.outcome} />
        {d.reason && <>: {d.reason}</>}
        {d.stage && <span className="text-muted"> ({d.stage})</span>}
      </td>
      <td className="value px-3 whitespace-nowrap text-muted">
        {d.check_text ? `line ${d.line}: check ${d.check_text}` : arrived}
      </td>
      <td className="px-3 text-right">
        {onFollow && (
          <button
            className="h-6 cursor-pointer px-1 text-act underline"
            aria-label={`Flow of ${asked(d)} by ${d.client.name} in tick ${d.tick}`}
            onClick={() => onFollow(d)}
          >
            Flow
          </button>
        )}
      </td>
    </tr>
  );
});

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
