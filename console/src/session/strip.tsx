// The strip: how the session does, at a glance. What is pressed opens what explains it.

import { Popover } from "radix-ui";
import type { ReactNode } from "react";
import type { Outcome } from "../shared/api";
import { outcomes } from "../shared/signs";
import { count } from "./apart";
import type { Face } from "./page";
import { bytesPerSecond } from "./traffic";
import { openTray } from "./traystate";
import { useWatch } from "./watch";

const part = "border-l border-line pl-4";
const opens = "cursor-pointer hover:underline";

export function Strip(props: { face: Face; onFace: (face: Face) => void; onDiffers: () => void }) {
  const watch = useWatch();
  const { columns, tick, faults, spans, outline } = watch;
  return (
    <section
      aria-label="How the session does"
      className="flex h-9 shrink-0 items-center gap-4 border-b border-line bg-raised px-4 text-xs whitespace-nowrap"
    >
      <InStep onDiffers={props.onDiffers} />
      <span className={columns.length > 0 ? part : ""}>
        {watch.moment && <b className="text-warn">stopped at </b>}
        tick <span className="value inline-block min-w-12">{tick.toLocaleString("en")}</span>
      </span>
      <Load />
      <span className={`${part} flex gap-3`}>
        {(Object.keys(outcomes) as Outcome[]).map((o) => {
          const { sign, colour } = outcomes[o];
          const n = watch.outcomes[o];
          return (
            <button
              key={o}
              className={`${opens} ${n > 0 ? colour : "text-muted"}`}
              title={`${o}, since this page was opened`}
              onClick={() => openTray("line", o)}
            >
              <span aria-hidden="true">{sign}</span>
              <span className="sr-only">{o}</span> <span className="value">{n}</span>
            </button>
          );
        })}
      </span>
      <button className={`${part} ${opens} ${faults ? "text-bad" : "text-muted"}`} onClick={() => openTray("faults")}>
        {faults ? `${faults.count} failed inside` : "nothing failed inside"}
      </button>
      {spans.length > 0 && (
        <button
          className={`${part} ${opens}`}
          title="sent and received in the last second"
          onClick={() => openTray("traffic")}
        >
          <span className="value">{size(bytesPerSecond(spans, outline?.tick ?? 1))}/s</span>
        </button>
      )}
      <Slowest />
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

function size(bytes: number): string {
  return bytes < 10_000 ? `${Math.round(bytes)} B` : `${(bytes / 1000).toFixed(1)} kB`;
}

function InStep({ onDiffers }: { onDiffers: () => void }) {
  const { columns, server } = useWatch();
  const { different, late } = count(server, columns);
  if (columns.length === 0) return null; // nobody is here who could be
  const [words, colour] =
    different > 0
      ? [`≠ ${different} different`, "text-bad"]
      : late > 0
        ? [`+ ${late} on the way`, "text-warn"]
        : ["= all in step", "text-good"];
  return (
    <button className={`${opens} min-w-28 text-left font-semibold ${colour}`} onClick={onDiffers}>
      {words}
    </button>
  );
}

// Load says how much of the time between two ticks they take, and what took the most.
function Load() {
  const load = useWatch((s) => s.load);
  const slow = useWatch((s) => s.session?.slow);
  if (!load) return null;
  const share = Math.min(load.longest_ms / load.period_ms, 1);
  const colour = share > 0.8 ? "bg-bad" : share > 0.5 ? "bg-warn" : "bg-act";
  return (
    <Explained
      button={
        <>
          <span className="sr-only">ticks take </span>
          <span className="relative inline-block h-1.5 w-16 overflow-hidden rounded-sm bg-line" aria-hidden="true">
            <span className={`absolute inset-y-0 left-0 ${colour}`} style={{ width: `${share * 100}%` }} />
          </span>{" "}
          <span className="value">
            {load.longest_ms.toFixed(1)} of {load.period_ms.toFixed(0)} ms
          </span>
        </>
      }
    >
      <p>
        The longest tick of the last second took {load.longest_ms.toFixed(2)} ms, the mean one
        {` ${load.mean_ms.toFixed(2)}`} ms; between two there are {load.period_ms.toFixed(0)} ms.
      </p>
      <p>{load.queued} inputs wait for the next tick.</p>
      {slow ? (
        <p className="text-warn">
          {slow.ticks} ticks of the last minute took too long, the longest {slow.ms.toFixed(1)} ms
          {slow.of && `, most of all ${slow.of}`}.
        </p>
      ) : (
        <p className="text-muted">No tick took too long.</p>
      )}
    </Explained>
  );
}

// Slowest names the client whose copy is the farthest behind.
function Slowest() {
  const { columns, tick, outline } = useWatch();
  const behind = (c: (typeof columns)[number]) => (c.waits ? tick - c.waits + 1 : 0);
  const slowest = columns.toSorted((a, b) => behind(b) - behind(a))[0];
  if (!slowest || behind(slowest) <= 1) return null;
  const ms = Math.round((behind(slowest) * 1000) / (outline?.tick ?? 1));
  return (
    <Explained
      button={
        <span className="text-warn">
          {slowest.name} <span className="value">+{behind(slowest)}</span> ticks behind
        </span>
      }
    >
      <table aria-label="How far copies are behind">
        <tbody>
          {columns
            .filter((c) => behind(c) > 0)
            .map((c) => (
              <tr key={c.number}>
                <td className="pr-4">{c.name}</td>
                <td className="value pr-4 text-right">+{behind(c)} ticks</td>
                <td className="value text-right">{Math.round((behind(c) * 1000) / (outline?.tick ?? 1))} ms</td>
              </tr>
            ))}
        </tbody>
      </table>
      <p className="mt-2 text-muted">
        {slowest.lost
          ? `The connection of ${slowest.name} is lost: it is sent nothing until it is back.`
          : `${slowest.name} has not confirmed what it was sent ${ms} ms ago: a link there and back takes as long.`}
      </p>
    </Explained>
  );
}

function Explained({ button, children }: { button: ReactNode; children: ReactNode }) {
  return (
    <Popover.Root>
      <Popover.Trigger className={`${part} cursor-pointer`}>{button}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={6}
          className="z-20 flex max-w-96 flex-col gap-1 rounded-sm border border-line bg-raised p-3 text-xs"
        >
          {children}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
