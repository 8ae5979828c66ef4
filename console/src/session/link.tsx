// The link of a test client: how its messages are delayed and lost.

import { useEffect, useState } from "react";
import { api, message, type Link } from "../shared/api";

const none: Link = { delay_ms: 0, jitter_ms: 0, loss: 0, reorder: 0, bandwidth: 0, cut: false };
const presets: [name: string, link: Link][] = [
  ["a good link", none],
  ["120 ms", { ...none, delay_ms: 120, jitter_ms: 20 }],
  ["300 ms", { ...none, delay_ms: 300, jitter_ms: 40 }],
  ["300 ms, 5 % lost", { ...none, delay_ms: 300, jitter_ms: 40, loss: 0.05 }],
  ["20 kB a second", { ...none, delay_ms: 80, bandwidth: 20_000 }],
  ["cut", { ...none, cut: true }],
];

export function LinkChoice({ session, client }: { session: number; client: number }) {
  const [link, setLink] = useState<Link>();
  const [error, setError] = useState("");
  useEffect(() => {
    let gone = false;
    api.link(session, client).then(
      (now) => !gone && setLink(now),
      (e) => !gone && setError(message(e)),
    );
    return () => {
      gone = true;
    };
  }, [session, client]);
  const at = link ? presets.findIndex(([, p]) => wordsOf(p) === wordsOf(link)) : 0;
  return (
    <label className="block">
      Over
      <select
        className="field"
        value={at}
        disabled={!link}
        onChange={(e) => {
          const [, chosen] = presets[Number(e.target.value)] as [string, Link];
          api.setLink(session, client, chosen).then(
            () => {
              setLink(chosen);
              setError("");
            },
            (problem) => setError(message(problem)),
          );
        }}
      >
        {presets.map(([name], i) => (
          <option key={name} value={i}>
            {name}
          </option>
        ))}
        {at < 0 && link && <option value={-1}>{wordsOf(link)}</option>}
      </select>
      {error && (
        <span role="alert" className="text-bad">
          {error}
        </span>
      )}
    </label>
  );
}

// wordsOf words a link, alike for links that do the same.
function wordsOf(l: Link): string {
  if (l.cut) return "cut";
  const parts = [`${l.delay_ms} ms`];
  if (l.jitter_ms) parts.push(`up to ${l.jitter_ms} ms more`);
  if (l.loss) parts.push(`${l.loss * 100} % lost`);
  if (l.bandwidth) parts.push(`${l.bandwidth} bytes a second`);
  return parts.join(", ");
}
