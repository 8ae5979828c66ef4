// What the service itself has to tell who runs it, above every page.

import { useEffect, useState } from "react";
import { api, type ServiceState } from "./api";

const every = 5000; // ms between two looks

// told words what is wrong, one sentence each; nothing when all is well.
export function told(s: ServiceState): string[] {
  const out: string[] = [];
  const n = (count: number) => count.toLocaleString("en");
  if (!s.held) out.push("The database does not know that this service lives: no session can be opened.");
  if (s.records_away) out.push(`The database does not take records: ${n(s.records_waiting)} wait.`);
  const [dropped, others] = [s.records_dropped, s.refused_dropped];
  const waiting = n(Math.ceil(s.recordings_waiting_bytes / 1000));
  if (s.recordings_away)
    out.push(
      "The database does not take what sessions record: nothing that players keep is settled, " +
        `and ${waiting} kB wait.`,
    );
  if (s.recording_gaps > 0)
    out.push(`Recordings have gaps, since the database was away for too long: ${n(s.recording_gaps)}.`);
  if (s.never_settled)
    out.push(`Nothing that players keep is ever called settled: of the database, ${s.never_settled}.`);
  if (dropped + others > 0)
    out.push(`Records were dropped: ${n(dropped)} of seats and accepted requests, ${n(others)} of others.`);
  if (s.sessions_failed > 0)
    out.push(`Sessions that failed inside and were closed: ${n(s.sessions_failed)}. The log says why.`);
  return out;
}

export function Notice() {
  const [lines, setLines] = useState<string[]>([]);
  useEffect(() => {
    let gone = false;
    const look = () =>
      api.service().then(
        (s) => !gone && setLines(told(s)),
        () => {}, // the page itself tells that the service cannot be reached
      );
    look();
    const timer = setInterval(look, every);
    return () => {
      gone = true;
      clearInterval(timer);
    };
  }, []);
  if (lines.length === 0) return null;
  return (
    <div role="alert" className="border-b border-line bg-raised px-4 py-1 text-bad">
      {lines.map((l) => (
        <p key={l}>! {l}</p>
      ))}
    </div>
  );
}
