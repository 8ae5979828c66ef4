// What clients send and are sent, put together from the spans that the service tells once a second.

import type { Span, SpanRow } from "../shared/api";

export type By = "item" | "kind" | "client";

// Line is what was spent on one thing, a second. most is what one value of it takes at most, in bits.
export type Line = {
  key: string;
  up: boolean;
  words: string;
  client?: number;
  bytes: number;
  count: number;
  bits: number;
};

const words: Record<string, string> = {
  entity: "come, go, owner",
  event: "event",
  decision: "decisions",
  roster: "who is there",
  log: "log lines",
  digest: "digests",
  framing: "heads of frames",
  request: "request",
  steer: "hold or write",
  confirm: "confirmations",
  other: "other messages",
  websocket: "heads of WebSocket messages",
};

// wordsOf says what bits were spent on.
export function wordsOf(row: { type: string; of?: string }): string {
  const type = words[row.type] ?? "";
  return row.of ? (type ? `${row.of} ${type}` : row.of) : type;
}

// linesOf adds spans up, the costliest first. rate is ticks a second; with a client, only what is its own counts.
export function linesOf(spans: Span[], rate: number, by: By, client = 0): Line[] {
  const seconds = spans.reduce((sum, s) => sum + s.ticks, 0) / rate;
  const lines = new Map<string, Line>();
  for (const span of spans)
    for (const row of span.rows)
      span.clients.forEach((number, i) => {
        if ((client && number !== client) || !(row.counts[i] || row.bits[i])) return;
        const line = lineFor(lines, row, by, number);
        line.bits += row.bits[i] ?? 0;
        line.count += row.counts[i] ?? 0;
      });
  const out = [...lines.values()];
  for (const line of out) {
    line.bytes = line.bits / 8 / seconds;
    line.count /= seconds;
    line.bits /= line.count * seconds || 1; // of one
  }
  return out.sort((a, b) => b.bytes - a.bytes || (a.key < b.key ? -1 : 1));
}

function lineFor(lines: Map<string, Line>, row: SpanRow, by: By, client: number): Line {
  const kind = row.of?.includes(".") ? row.of.slice(0, row.of.indexOf(".")) : (row.of ?? wordsOf(row));
  const what = { item: wordsOf(row), kind, client: String(client) }[by];
  const key = `${row.up ? "up" : "down"}/${by === "item" ? row.type : ""}/${what}`;
  let line = lines.get(key);
  if (!line) {
    line = { key, up: !!row.up, words: what, bytes: 0, count: 0, bits: 0 };
    if (by === "client") line.client = client;
    lines.set(key, line);
  }
  return line;
}

// seriesOf gives bytes a second by time: x in seconds before now, then to clients and from clients.
export function seriesOf(spans: Span[], rate: number, client = 0): [number[], number[], number[]] {
  const last = spans.at(-1)?.tick ?? 0;
  const x: number[] = [];
  const down: number[] = [];
  const up: number[] = [];
  for (const span of spans) {
    const sums = [0, 0];
    for (const row of span.rows)
      span.clients.forEach((number, i) => {
        if (!client || number === client) sums[row.up ? 1 : 0]! += (row.bits[i] ?? 0) / 8;
      });
    x.push((span.tick - last) / rate);
    down.push((sums[0]! / span.ticks) * rate);
    up.push((sums[1]! / span.ticks) * rate);
  }
  return [x, down, up];
}

// bytesPerSecond is what went to clients and came from them in the newest span, together.
export function bytesPerSecond(spans: Span[], rate: number): number {
  const [, down, up] = seriesOf(spans.slice(-1), rate);
  return (down[0] ?? 0) + (up[0] ?? 0);
}
