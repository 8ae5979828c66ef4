// The mistakes of a text that was sent: each with its place, and what would be right.

import type { Finding } from "./api";

export function Mistakes({ list }: { list: Finding[] }) {
  return (
    <ul className="flex flex-col gap-2">
      {list.map((m) => (
        <li key={`${m.file}/${m.line}/${m.column}/${m.code}`}>
          <span className={m.warning ? "text-warn" : "text-bad"}>
            {m.warning ? "!" : "✕"} {m.message}
          </span>{" "}
          <span className="text-muted">
            line {m.line} of {m.file}
          </span>
          <pre className="value overflow-x-auto">{m.source}</pre>
          {m.hint && <p className="text-muted">{m.hint}</p>}
        </li>
      ))}
    </ul>
  );
}
