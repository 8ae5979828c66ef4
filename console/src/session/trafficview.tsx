// The traffic of a session: bytes by time, and what they were spent on, the costliest first.

import { useEffect, useMemo, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { api, type Cost } from "../shared/api";
import { Mark } from "../shared/signs";
import { Table } from "../shared/table";
import { linesOf, seriesOf, type By, type Line } from "./traffic";
import { useWatch } from "./watch";

const chartHeight = 116; // px

export default function TrafficView() {
  const spans = useWatch((s) => s.spans);
  const columns = useWatch((s) => s.columns);
  const rate = useWatch((s) => s.outline?.tick ?? 1);
  const session = useWatch((s) => s.session);
  const [by, setBy] = useState<By>("item");
  const [client, setClient] = useState(0);
  const cost = useCost(session?.contract, session?.version);
  const lines = useMemo(() => linesOf(spans.slice(-10), rate, by, client), [spans, rate, by, client]);
  const series = useMemo(() => seriesOf(spans, rate, client), [spans, rate, client]);
  const total = lines.reduce((sum, l) => sum + l.bytes, 0);
  if (spans.length === 0)
    return <p className="px-4 py-2 text-muted">Nothing was sent yet. What clients are sent is told once a second.</p>;
  const most = (line: Line) => cost?.get(line.key);
  return (
    <div className="flex h-full min-h-0">
      <div className="flex w-[26rem] shrink-0 flex-col border-r border-line">
        <div className="flex items-center gap-2 px-3 py-1 text-xs">
          <label>
            Of{" "}
            <select className="small" value={client} onChange={(e) => setClient(Number(e.target.value))}>
              <option value={0}>all clients</option>
              {columns.map((c) => (
                <option key={c.number} value={c.number}>
                  {c.name}
                </option>
              ))}
            </select>
          </label>
          <label>
            by{" "}
            <select className="small" value={by} onChange={(e) => setBy(e.target.value as By)}>
              <option value="item">what it says</option>
              <option value="kind">kind</option>
              <option value="client">client</option>
            </select>
          </label>
          <span className="flex-1" />
          <span className="value">{bytes(total)}/s</span>
        </div>
        <Chart series={series} />
      </div>
      <div className="min-w-0 flex-1 overflow-auto text-xs">
        <Table
          label="What bytes were spent on in the last 10 seconds"
          rows={lines}
          keyOf={(l) => l.key}
          columns={[
            {
              name: "Spent on",
              value: (l) => l.words,
              cell: (l) => (
                <>
                  <span className="text-muted" title={l.up ? "from clients" : "to clients"}>
                    {l.up ? "↑" : "↓"}
                    <span className="sr-only">{l.up ? "from clients" : "to clients"}</span>
                  </span>{" "}
                  {l.client ? (
                    <>
                      <Mark number={l.client} /> {columns.find((c) => c.number === l.client)?.name ?? l.client}
                    </>
                  ) : (
                    l.words
                  )}
                </>
              ),
            },
            number(
              "Bytes/s",
              (l) => l.bytes,
              (l) => l.bytes.toFixed(1),
            ),
            number(
              "Share",
              (l) => l.bytes,
              (l) => `${((l.bytes / total) * 100).toFixed(1)} %`,
            ),
            number(
              "Count/s",
              (l) => l.count,
              (l) => l.count.toFixed(1),
            ),
            number(
              "Bits each",
              (l) => l.bits,
              (l) => l.bits.toFixed(1),
            ),
            number(
              "At most",
              (l) => most(l) ?? 0,
              (l) => String(most(l) ?? "–"),
            ),
          ]}
        />
      </div>
    </div>
  );
}

function number(name: string, value: (l: Line) => number, text: (l: Line) => string) {
  return { name, value, right: true, cell: (l: Line) => <span className="value">{text(l)}</span> };
}

function bytes(n: number): string {
  return n < 10_000 ? `${Math.round(n)} B` : `${(n / 1000).toFixed(1)} kB`;
}

// useCost gives what one value of each thing takes at most by the contract, by the key of its line.
function useCost(contract?: string, version?: number): Map<string, number> | undefined {
  const [cost, setCost] = useState<Map<string, number>>();
  useEffect(() => {
    if (!contract || !version) return;
    let gone = false;
    api.report(contract, version).then(
      (report) => !gone && setCost(mostOf(report.cost)),
      () => {}, // then the column stays empty
    );
    return () => {
      gone = true;
    };
  }, [contract, version]);
  return cost;
}

function mostOf(cost: Cost): Map<string, number> {
  const out = new Map<string, number>();
  for (const p of cost.properties) out.set(`down/property/${p.name}`, p.most_bits);
  for (const e of cost.events) out.set(`down/event/${e.name} event`, e.most_bits);
  for (const r of cost.requests) out.set(`up/request/${r.name} request`, r.most_bits);
  return out;
}

// Chart draws bytes a second by time.
function Chart({ series }: { series: uPlot.AlignedData }) {
  const place = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  useEffect(() => {
    const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
    const axis = { stroke: colour("--muted"), grid: { stroke: colour("--line"), width: 1 }, ticks: { show: false } };
    const chart = new uPlot(
      {
        width: 408,
        height: chartHeight,
        scales: { x: { time: false }, y: { range: (_, __, max) => [0, Math.max(max * 1.1, 10)] } },
        axes: [
          { ...axis, values: (_, list) => list.map((v) => `${v} s`) },
          { ...axis, size: 56, values: (_, list) => list.map((v) => bytes(v)) },
        ],
        series: [
          { label: "time", value: (_, v) => (v === null ? "" : `${v} s`) },
          { label: "to clients", stroke: colour("--act"), width: 1.5, value: (_, v) => (v === null ? "" : bytes(v)) },
          {
            label: "from clients",
            stroke: colour("--note"),
            width: 1.5,
            dash: [4, 3],
            value: (_, v) => (v === null ? "" : bytes(v)),
          },
        ],
      },
      [[], [], []],
      place.current as HTMLDivElement,
    );
    plot.current = chart;
    return () => chart.destroy();
  }, []);
  useEffect(() => plot.current?.setData(series), [series]);
  return <div ref={place} className="chart" aria-hidden="true" />;
}
