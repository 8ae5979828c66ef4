// The flow of one action: lanes for the client that asked, the server and each client that got something.

import { useRef } from "react";
import type { Decision } from "../shared/api";
import { shapeOf } from "../shared/signs";
import { flowOf, mermaid, type Arrow } from "./flow";
import { useWatch } from "./watch";

const lane = 220; // px between two lanes
const left = 90;
const top = 40;
const rowHeight = 26;

export function FlowChart({ decision }: { decision: Decision | undefined }) {
  const watch = useWatch();
  const drawing = useRef<SVGSVGElement>(null);
  if (!decision)
    return <p className="px-4 py-2 text-muted">Choose a decision to see what became of it on every side.</p>;
  const flow = flowOf(watch, decision);
  const order = [decision.client.number, 0, ...flow.lanes.slice(1).map((l) => l.number)];
  const x = (n: number) => left + order.indexOf(n) * lane;
  const y = (i: number) => top + 14 + i * rowHeight;
  const height = top + 24 + flow.arrows.length * rowHeight;
  const width = left + order.length * lane;
  const name = (n: number) =>
    n === 0 ? "Server" : `${shapeOf(n)} ${flow.lanes.find((l) => l.number === n)?.name ?? n}`;
  const save = () => {
    const text = new XMLSerializer().serializeToString(drawing.current as SVGSVGElement);
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([text], { type: "image/svg+xml" }));
    link.download = `flow-${decision.client.name}-${decision.seq}.svg`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <div>
      <div className="flex items-center gap-3 px-4 py-1 text-xs">
        <span>
          {decision.request} by {decision.client.name}, tick <span className="value">{decision.tick}</span>
        </span>
        {!flow.isKnown && <span className="text-muted">too long ago: when it arrived is not known any more</span>}
        <span className="flex-1" />
        <button className="h-6 cursor-pointer text-act underline" onClick={save}>
          Save as SVG
        </button>
        <button
          className="h-6 cursor-pointer text-act underline"
          onClick={() => void navigator.clipboard.writeText(mermaid(flow))}
        >
          Copy as Mermaid
        </button>
      </div>
      <svg
        ref={drawing}
        width={width}
        height={height}
        role="img"
        aria-label={flow.arrows.map((a) => `${name(a.from)} to ${name(a.to)}: ${a.text}, tick ${a.tick}`).join("; ")}
        style={{ font: "12px system-ui, 'DejaVu Sans', sans-serif" }}
      >
        <text x={16} y={20} fill="var(--muted)">
          ms
        </text>
        {order.map((n) => (
          <g key={n}>
            <text x={x(n)} y={20} textAnchor="middle" fill="var(--ink)" fontWeight={600}>
              {name(n)}
            </text>
            <line x1={x(n)} x2={x(n)} y1={30} y2={height} stroke="var(--line)" />
          </g>
        ))}
        {flow.arrows.map((a, i) => (
          <g key={`${a.sort}/${a.to}/${a.text}`}>
            <text x={16} y={y(i) + 4} fill={a.late ? "var(--warn)" : "var(--muted)"}>
              {a.underWay ? "…" : Math.round((a.tick - decision.tick) * flow.msPerTick)}
            </text>
            <ArrowLine arrow={a} from={x(a.from)} to={x(a.to)} y={y(i)} />
          </g>
        ))}
      </svg>
    </div>
  );
}

function ArrowLine({ arrow, from, to, y }: { arrow: Arrow; from: number; to: number; y: number }) {
  const colour = arrow.late
    ? "var(--warn)"
    : { request: "var(--act)", decision: "var(--ink)", change: "var(--good)", event: "var(--note)" }[arrow.sort];
  const way = Math.sign(to - from);
  const text = arrow.text.length > 60 ? `${arrow.text.slice(0, 59)}…` : arrow.text;
  const middle = Math.min(from, to) + 8;
  return (
    <>
      <line
        x1={from}
        x2={to - way * 6}
        y1={y}
        y2={y}
        stroke={colour}
        strokeWidth={1.5}
        strokeDasharray={arrow.underWay ? "4 4" : undefined}
      />
      <path d={`M ${to} ${y} l ${-way * 8} -4 v 8 z`} fill={colour} />
      <text x={middle} y={y - 5} fill={colour}>
        {text}
        {arrow.late && (arrow.underWay ? ", under way" : ", late")}
        <title>{arrow.text}</title>
      </text>
    </>
  );
}
