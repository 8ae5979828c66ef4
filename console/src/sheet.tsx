// The comparison sheet: rows are entities and their properties, columns the server and each client.

import { X } from "lucide-react";
import { useState } from "react";
import type { Property } from "./api";
import { compare, format, nameOf, present, things, type Thing } from "./copy";
import { Mark, Sign } from "./signs";
import { useWatch, type Column, type State } from "./watch";

// differences counts the values that clients hold otherwise than the server.
export function differences({ outline, server, columns, tick }: State): { different: number; late: number } {
  const out = { different: 0, late: 0 };
  if (!outline) return out;
  for (const thing of server.things.values())
    for (const property of outline.kinds.find((k) => k.name === thing.kind)?.properties ?? [])
      for (const c of columns) {
        const { sign } = compare(outline, c, thing, property, tick);
        if (sign === "≠") out.different++;
        if (sign === "late") out.late++;
      }
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
            return kind?.properties.map((p, i) => (
              <tr
                key={`${thing.entity}/${p.name}`}
                className={i === 0 ? "border-t border-line" : ""}
                data-row={`${name}.${p.name}`}
              >
                <td className="h-6 px-3 font-semibold">{i === 0 && name}</td>
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
          })}
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

const isNumber = (form: string) => form === "int" || form === "real";

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
