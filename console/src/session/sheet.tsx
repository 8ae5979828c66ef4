// The comparison sheet: rows are entities and their properties, columns the server and each client.

import { X } from "lucide-react";
import { useState } from "react";
import type { Property } from "../shared/api";
import {
  compare,
  compareOwner,
  format,
  nameOf,
  ownerName,
  present,
  stale,
  things,
  type Cell,
  type Thing,
} from "./copy";
import { Mark, Sign } from "../shared/signs";
import { useWatch, type Column, type State } from "./watch";

// differences counts the values that clients hold otherwise than the server.
export function differences({ outline, server, columns, tick }: State): { different: number; late: number } {
  const out = { different: 0, late: 0 };
  if (!outline) return out;
  const count = (cell?: Cell) => {
    if (cell?.sign === "≠") out.different++;
    if (cell?.sign === "late") out.late++;
  };
  for (const thing of server.things.values())
    for (const c of columns) {
      count(compareOwner(outline, c, thing, false, tick));
      for (const property of outline.kinds.find((k) => k.name === thing.kind)?.properties ?? [])
        count(compare(outline, c, thing, property, tick));
    }
  for (const thing of stale(server, columns))
    for (const c of columns) count(compareOwner(outline, c, thing, true, tick));
  return out;
}

export function Sheet(props: { asking?: number; onAsk: (n: number) => void; onClose: (n: number) => void }) {
  const watch = useWatch();
  const { outline, server, columns } = watch;
  if (!outline) return null;
  return (
    <>
      <table className="w-full border-collapse">
        <thead>
          <tr>
            {["Entity", "Property", "Server"].map((h) => (
              <th key={h} scope="col" className="sticky top-0 z-10 h-9 border-b border-muted bg-paper px-3">
                {h}
              </th>
            ))}
            {columns.map((c) => (
              <th
                key={c.number}
                scope="col"
                className="sticky top-0 z-10 h-9 border-b border-l border-b-muted border-l-line bg-paper px-3"
              >
                <Head column={c} asking={props.asking === c.number} onAsk={props.onAsk} onClose={props.onClose} />
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {things(server).map((thing) => {
            const kind = outline.kinds.find((k) => k.name === thing.kind);
            const name = nameOf(server.clients, thing);
            const owner = <Owner key={`${thing.entity}`} thing={thing} gone={false} />;
            const named = columns.some((c) => compareOwner(outline, c, thing, false, watch.tick));
            const rows = kind?.properties.map((p, i) => (
              <tr
                key={`${thing.entity}/${p.name}`}
                className={i === 0 && !named ? "border-t border-line" : ""}
                data-row={`${name}.${p.name}`}
              >
                <td className="h-6 px-3 font-semibold">{i === 0 && !named && name}</td>
                <th scope="row" className="px-3 font-normal">
                  {p.name}
                </th>
                <td className="px-3" data-column="server">
                  <Value
                    text={format(p.type, present(outline, server, thing, p, watch.tick))}
                    number={isNumber(p.type.form)}
                  />
                </td>
                {columns.map((c) => (
                  <Held key={c.number} column={c} thing={thing} property={p} />
                ))}
              </tr>
            ));
            return [owner, rows];
          })}
          {stale(server, columns).map((thing) => (
            <Owner key={`${thing.entity}`} thing={thing} gone />
          ))}
        </tbody>
      </table>
      {columns.length === 0 && (
        <p className="p-4 text-muted">
          No client is here. Open a test client, or join with kamerad join {watch.id} --as Ana.
        </p>
      )}
    </>
  );
}

function Head(props: { column: Column; asking: boolean; onAsk: (n: number) => void; onClose: (n: number) => void }) {
  const c = props.column;
  return (
    <span className="flex items-center gap-2 whitespace-nowrap">
      <Mark number={c.number} />
      <span title={`client ${c.number}, role ${c.role}, has confirmed tick ${c.seen}`}>{c.name}</span>
      {!!c.differences && (
        <span
          className="text-xs text-bad"
          title={`its copy was not what it should be ${c.differences} times; it was sent anew`}
        >
          ≠ {c.differences}
        </span>
      )}
      {c.bytes && (
        <span
          className={`text-xs font-normal tabular-nums ${c.bytes.waiting ? "text-warn" : "text-muted"}`}
          title={
            `was sent ${c.bytes.sent} of ${c.bytes.limit} bytes in the last second; ` +
            `something of ${c.bytes.waiting} entities waits`
          }
        >
          {`${(c.bytes.sent / 1000).toFixed(1)}/${c.bytes.limit / 1000} kB/s`}
          {!!c.bytes.waiting && ` … ${c.bytes.waiting}`}
        </span>
      )}
      {c.role !== "player" && <span className="text-xs font-normal text-muted">{c.role}</span>}
      <span className="flex-1" />
      {c.test && (
        <>
          <button
            className="button h-6! px-2!"
            aria-pressed={props.asking}
            aria-label={`Ask as ${c.name}`}
            onClick={() => props.onAsk(c.number)}
          >
            Ask
          </button>
          <button
            className="plain"
            aria-label={`Close ${c.name}`}
            title="Close this test client"
            onClick={() => props.onClose(c.number)}
          >
            <X size={14} />
          </button>
        </>
      )}
    </span>
  );
}

// Owner is the row of an entity's owner. It is there only where a client does not have the entity as the server does.
function Owner({ thing, gone }: { thing: Thing; gone: boolean }) {
  const { outline, server, columns, tick } = useWatch();
  if (!outline) return null;
  const cells = columns.map((c) => compareOwner(outline, c, thing, gone, tick));
  if (!cells.some(Boolean)) return null;
  const name = nameOf(server.clients, thing);
  return (
    <tr className="border-t border-line" data-row={`${name}.owner`}>
      <td className="h-6 px-3 font-semibold">{name}</td>
      <th scope="row" className="px-3 font-normal">
        owner
      </th>
      <td className="px-3" data-column="server">
        {gone ? "gone" : ownerName(server.clients, thing)}
      </td>
      {cells.map((cell, i) => (
        <td key={columns[i]!.number} className="border-l border-line px-3" data-column={columns[i]!.name}>
          {cell && (
            <span className="flex items-baseline gap-2">
              {cell.text}
              <span className="flex-1" />
              <Sign sign={cell.sign} behind={cell.behind} />
            </span>
          )}
        </td>
      ))}
    </tr>
  );
}

function Held(props: { column: Column; thing: Thing; property: Property }) {
  const watch = useWatch();
  if (!watch.outline) return null;
  const cell = compare(watch.outline, props.column, props.thing, props.property, watch.tick);
  return (
    <td className="border-l border-line px-3" data-column={props.column.name}>
      <span className="flex items-baseline gap-2">
        {cell.text !== "" && <Value text={cell.text} number={isNumber(props.property.type.form)} />}
        {cell.sign !== "–" && <span className="flex-1" />}
        <Sign sign={cell.sign} behind={cell.behind} />
      </span>
    </td>
  );
}

const isNumber = (form: string) => form === "int" || form === "time" || form === "real";

// Value shows a value, and marks it for a moment when it has changed.
function Value({ text, number }: { text: string; number: boolean }) {
  const [{ shown, changes }, setLast] = useState({ shown: text, changes: 0 });
  if (shown !== text) setLast({ shown: text, changes: changes + 1 });
  return (
    <span className={number ? "inline-block min-w-[4ch] text-right" : ""}>
      <span key={changes} className={`value ${changes > 0 ? "changed" : ""}`}>
        {text}
      </span>
    </span>
  );
}
