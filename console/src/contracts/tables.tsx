// What is computed of a contract: who may see and do what, what it costs, what clients are given, and what differs.

import { useState } from "react";
import type { Access, Comparison, Cost, CostRow, Matrix, Outline } from "../shared/api";
import { Table } from "../shared/table";
import { paramWords, typeWords } from "../shared/types";

const signs: Record<Access, [string, string, string]> = {
  always: ["✓", "always", "text-good"],
  sometimes: ["some", "when more than that holds", "text-warn"],
  never: ["–", "never", "text-muted"],
  unrelated: ["", "being in this audience changes nothing", ""],
};

function Cell({ access }: { access: Access }) {
  const [sign, words, colour] = signs[access];
  return (
    <span className={colour} title={words}>
      {sign}
      {sign && <span className="sr-only"> {words}</span>}
    </span>
  );
}

function brief(list: string[], most: number): string {
  const more = list.length - most;
  return list.slice(0, most).join(", ") + (more > 0 ? ` and ${more} more` : "");
}

type Asks = { onLine: (line: number) => void };

export function MatrixTables({ matrix, onLine }: { matrix: Matrix } & Asks) {
  const viewers = <T extends { access: Access[] }>() =>
    matrix.viewers.map((v, i) => ({
      name: v.name,
      value: (row: T) => Object.keys(signs).indexOf(row.access[i] as Access),
      cell: (row: T) => <Cell access={row.access[i] as Access} />,
    }));
  const place = (name: string, line: number) => (
    <button className="link value" onClick={() => onLine(line)} title={`line ${line}`}>
      {name}
    </button>
  );
  return (
    <div className="flex flex-col gap-6">
      <p className="text-muted">
        ✓ always, <span className="text-warn">some</span> when more than that holds, – never; nothing where being in an
        audience changes nothing.
      </p>
      <section aria-label="Properties">
        <h2 className="mb-1 text-base font-semibold">Who sees what</h2>
        <Table
          label="Who sees each property, and who writes it"
          rows={matrix.properties}
          keyOf={(p) => p.name}
          columns={[
            { name: "Property", value: (p) => p.name, cell: (p) => place(p.name, p.line) },
            { name: "Type", value: (p) => p.type, cell: (p) => <span className="value text-muted">{p.type}</span> },
            ...viewers<Matrix["properties"][number]>(),
            {
              name: "Written by",
              value: (p) => p.writer,
              cell: (p) => (
                <span className="text-muted">
                  {p.writer === "server" ? brief(p.by, 3) : `${p.writer} ${p.within ?? ""}`}
                </span>
              ),
            },
          ]}
        />
      </section>
      <section aria-label="Requests">
        <h2 className="mb-1 text-base font-semibold">Who may ask for what</h2>
        <Table
          label="Who may send each request"
          rows={matrix.requests}
          keyOf={(r) => r.name}
          columns={[
            { name: "Request", value: (r) => r.name, cell: (r) => place(r.name, r.line) },
            ...viewers<Matrix["requests"][number]>(),
            {
              name: "Checks",
              right: true,
              value: (r) => r.checks.length,
              cell: (r) =>
                r.checks.length > 0 ? (
                  <span title={r.checks.map((c) => `${c.text}: ${c.then} ${c.reason}`).join("\n")}>
                    {r.checks.length}
                  </span>
                ) : (
                  <span className="text-warn">none</span>
                ),
            },
            { name: "Limit", cell: (r) => [r.limit, r.pause && `${r.pause} apart`].filter(Boolean).join(", ") },
            {
              name: "Can change",
              cell: (r) => <span className="text-muted">{brief([...r.changes, ...r.does], 4)}</span>,
            },
          ]}
        />
      </section>
      <section aria-label="Events">
        <h2 className="mb-1 text-base font-semibold">Who is told what</h2>
        <Table
          label="Who hears each event"
          rows={matrix.events}
          keyOf={(e) => e.name}
          columns={[
            { name: "Event", value: (e) => e.name, cell: (e) => <span className="value">{e.name}</span> },
            ...viewers<Matrix["events"][number]>(),
            { name: "Told to", cell: (e) => e.to.join("; ") },
            { name: "By", cell: (e) => <span className="text-muted">{brief(e.by, 3)}</span> },
          ]}
        />
      </section>
    </div>
  );
}

export function CostTables({ cost }: { cost: Cost }) {
  const rows = (label: string, list: CostRow[], to?: string) => (
    <section aria-label={label}>
      <h2 className="mb-1 text-base font-semibold">{label}</h2>
      <Table
        label={label}
        rows={list}
        keyOf={(r) => r.name}
        columns={[
          { name: "Name", value: (r) => r.name, cell: (r) => <span className="value">{r.name}</span> },
          { name: "Bits at most", right: true, value: (r) => r.most_bits, cell: (r) => bits(r, r.most_bits) },
          { name: "Bits typically", right: true, value: (r) => r.typical_bits, cell: (r) => bits(r, r.typical_bits) },
          ...(to ? [{ name: to, value: (r: CostRow) => r.to ?? "", cell: (r: CostRow) => r.to }] : []),
        ]}
      />
    </section>
  );
  return (
    <div className="flex max-w-4xl flex-col gap-6">
      <p>
        With {cost.clients} clients at {cost.tick_rate} ticks a second, one client gets{" "}
        <b>{cost.snapshot_bytes.toLocaleString("en")} bytes</b> when it joins, at most{" "}
        <b>{cost.most_bytes.toLocaleString("en")} bytes</b> in a tick in which everything changes, and about{" "}
        <b>{cost.typical_bytes.toLocaleString("en")} bytes</b> in one in which what timers and motion change does (
        {((cost.typical_bytes * cost.tick_rate) / 1000).toFixed(1)} kB a second). Heads of frames come on top. The
        service needs at most {Math.ceil(cost.memory_bytes / (1 << 20))} MB of memory for all this.
      </p>
      {rows("Properties", cost.properties, "Goes to")}
      {rows("Requests", cost.requests, "From")}
      {rows("Events", cost.events)}
    </div>
  );
}

function bits(row: CostRow, n: number) {
  return <span className="value">{row.to === "nobody" ? "–" : n}</span>;
}

export function OutlineView({ outline }: { outline: Outline }) {
  const [copied, setCopied] = useState(false);
  return (
    <div className="flex max-w-4xl flex-col gap-4">
      <p className="text-muted">
        What clients are given: names, types, ranges, and the checks that they can evaluate themselves.{" "}
        <button
          className="link"
          onClick={() =>
            void navigator.clipboard.writeText(JSON.stringify(outline, null, 2)).then(() => setCopied(true))
          }
        >
          {copied ? "Copied" : "Copy as JSON"}
        </button>
      </p>
      {outline.kinds.map((k) => (
        <section key={k.name} aria-label={k.name}>
          <h2 className="text-base font-semibold">
            {k.name}{" "}
            <span className="font-normal text-muted">
              {k.shared ? "shared" : k.per ? `per ${k.per}` : "entity"}, to {k.to}
            </span>
          </h2>
          <ul className="value">
            {k.properties.map((p) => (
              <li key={p.name}>
                {p.name}: {typeWords(p.type)}{" "}
                <span className="text-muted">
                  to {p.to}
                  {p.set_by && `, set by ${p.set_by}`}
                  {p.follows && `, follows ${p.follows}`}
                </span>
              </li>
            ))}
            {k.requests.map((r) => (
              <li key={r.name}>
                <span className="text-act">request</span> {r.name}({paramWords(r.params)}){" "}
                <span className="text-muted">
                  from {r.from}
                  {r.reasons.length > 0 && `; may be denied: ${r.reasons.filter(Boolean).join(", ")}`}
                </span>
              </li>
            ))}
            {k.events.map((e) => (
              <li key={e.name}>
                <span className="text-note">event</span> {e.name}({paramWords(e.params)})
              </li>
            ))}
          </ul>
        </section>
      ))}
    </div>
  );
}

export function ComparisonView({ comparison: c }: { comparison: Comparison }) {
  return (
    <div className="flex flex-col gap-3">
      <p>
        {c.takes_over ? (
          <span className="text-good">✓ A running session could take the newer one over.</span>
        ) : (
          <span className="text-bad">
            ✕ A running session could not take the newer one over: {c.blocks.join("; ")}.
          </span>
        )}{" "}
        {c.stay ? (
          <span className="text-good">Its clients could stay.</span>
        ) : (
          <span className="text-warn">Its clients would have to join anew.</span>
        )}
        {c.lose.length > 0 && <span className="text-warn"> Lost: {c.lose.join(", ")}.</span>}
      </p>
      {c.changes.length === 0 ? (
        <p className="text-muted">Nothing differs that matters to a session.</p>
      ) : (
        <Table
          label="What differs"
          rows={c.changes}
          keyOf={(x) => `${x.what}/${x.name}/${x.aspect}/${x.how}/${x.was}/${x.is}`}
          columns={[
            { name: "What", value: (x) => x.what, cell: (x) => x.what },
            { name: "Name", value: (x) => x.name, cell: (x) => <span className="value">{x.name}</span> },
            { name: "How", value: (x) => x.how, cell: (x) => `${x.how} ${x.aspect ?? ""}` },
            { name: "Was", cell: (x) => <span className="value text-muted">{x.was}</span> },
            { name: "Is", cell: (x) => <span className="value">{x.is}</span> },
            { name: "In a running session", cell: (x) => <span className="text-muted">{x.then}</span> },
          ]}
        />
      )}
    </div>
  );
}
