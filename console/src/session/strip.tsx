// The strip: how the session does, at a glance.

import { outcomes } from "../shared/signs";
import type { Outcome } from "../shared/api";
import { count } from "./apart";
import type { Face } from "./page";
import { useWatch } from "./watch";

export function Strip(props: { face: Face; onFace: (face: Face) => void }) {
  const watch = useWatch();
  const { columns, tick, session, faults } = watch;
  const part = "border-l border-line pl-4";
  const slowest = columns.reduce<{ name: string; behind: number }>(
    (worst, c) => {
      const behind = c.waits ? tick - c.waits + 1 : 0;
      return behind > worst.behind ? { name: c.name, behind } : worst;
    },
    { name: "", behind: 0 },
  );
  return (
    <section
      aria-label="How the session does"
      className="flex h-9 shrink-0 items-center gap-4 border-b border-line bg-raised px-4 text-xs whitespace-nowrap"
    >
      <InStep />
      <span className={columns.length > 0 ? part : ""}>
        {watch.moment && <b className="text-warn">stopped at </b>}tick <span className="value inline-block min-w-12">{tick.toLocaleString("en")}</span>
      </span>
      <span className={`${part} flex gap-3`} title="decisions since this page was opened">
        {(Object.keys(outcomes) as Outcome[]).map((o) => {
          const { sign, colour } = outcomes[o];
          const n = watch.outcomes[o];
          return (
            <span key={o} className={n > 0 ? colour : "text-muted"} title={o}>
              <span aria-hidden="true">{sign}</span>
              <span className="sr-only">{o}</span> <span className="value">{n}</span>
            </span>
          );
        })}
      </span>
      <span className={`${part} ${faults ? "text-bad" : "text-muted"}`}>
        {faults ? `${faults.count} failed inside` : "nothing failed inside"}
      </span>
      {slowest.behind > 1 && (
        <span className={`${part} text-warn`}>
          {slowest.name} <span className="value">+{slowest.behind}</span> ticks behind
        </span>
      )}
      {!!session?.slow?.ticks && (
        <span
          className={`${part} text-warn`}
          title={`the longest took ${session.slow.ms} ms, mostly ${session.slow.of}`}
        >
          {session.slow.ticks} slow ticks
        </span>
      )}
      <span className="flex-1" />
      {(["sheet", "map"] as const).map((face, i) => (
        <button
          key={face}
          className="h-6 cursor-pointer px-1 capitalize aria-pressed:font-semibold aria-pressed:text-act"
          aria-pressed={props.face === face}
          onClick={() => props.onFace(face)}
        >
          {face} <kbd className="rounded-sm border border-line px-1 font-mono">{i + 1}</kbd>
        </button>
      ))}
    </section>
  );
}

function InStep() {
  const { columns, server } = useWatch();
  const { different, late } = count(server, columns);
  if (columns.length === 0) return null; // nobody is here who could be
  if (different > 0) return <span className="font-semibold text-bad">≠ {different} different</span>;
  if (late > 0) return <span className="font-semibold text-warn">+ {late} on the way</span>;
  return <span className="font-semibold text-good">= all in step</span>;
}
