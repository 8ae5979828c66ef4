// The list of sessions.

import { useCallback, useEffect, useState } from "react";
import { Link } from "react-router";
import { api, message, type Session } from "../shared/api";
import { Bar } from "../shared/bar";
import { OpenSession } from "../shared/open";

export function SessionsPage() {
  const [sessions, setSessions] = useState<Session[]>();
  const [error, setError] = useState("");
  const load = useCallback(() => {
    api.sessions().then(
      (list) => {
        setSessions(list);
        setError("");
      },
      (e) => setError(message(e)),
    );
  }, []);
  useEffect(() => {
    document.title = "Sessions · Kamerad";
    load();
    window.addEventListener("focus", load);
    return () => window.removeEventListener("focus", load);
  }, [load]);

  return (
    <div className="flex h-full flex-col">
      <Bar>
        <OpenSession />
      </Bar>
      <main className="flex-1 overflow-auto p-4">
        <h1 className="mb-3 text-lg font-semibold">Sessions</h1>
        {error && (
          <p role="alert" className="mb-3 text-bad">
            {error}
          </p>
        )}
        {sessions?.length === 0 && (
          <p>
            No session was opened yet. Publish a contract with{" "}
            <code className="value">kamerad contract publish FILE</code>, then open a session of it here.
          </p>
        )}
        {sessions && sessions.length > 0 && (
          <table className="w-full border-collapse">
            <thead>
              <tr className="border-b border-muted">
                {["Session", "Contract", "State", "Tick", "Clients", "Opened"].map((h) => (
                  <th key={h} className={`py-1 pr-6 ${h === "Session" || h === "Tick" ? "text-right" : ""}`}>
                    {h}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {sessions.map((s) => (
                <tr key={s.id} className="border-b border-line">
                  <td className="w-20 py-1 pr-6 text-right">
                    <Link className="value text-act underline" to={`/sessions/${s.id}`} aria-label={`Session ${s.id}`}>
                      {s.id}
                    </Link>
                  </td>
                  <td className="pr-6">
                    {s.contract} <span className="text-muted">version {s.version}</span>
                  </td>
                  <td className="pr-6">
                    {s.open ? (
                      <>
                        <span className="text-good">{s.paused ? "paused" : "open"}</span>
                        {s.slow && (
                          <span
                            className="text-warn"
                            title={`${s.slow.ticks} ticks of the last minute took longer than there is between two`}
                          >
                            {` ! slow: ticks of up to ${Math.round(s.slow.ms)} ms`}
                            {s.slow.of && `, most of all ${s.slow.of}`}
                          </span>
                        )}
                        {s.faults && (
                          <span className="text-warn">
                            {" "}
                            ! failed inside {s.faults.count === 1 ? "once" : `${s.faults.count} times`}
                          </span>
                        )}
                      </>
                    ) : (
                      <span className="text-muted">closed: {s.close_reason}</span>
                    )}
                  </td>
                  <td className="value w-24 pr-6 text-right">{s.tick}</td>
                  <td className="pr-6">{s.clients.map((c) => c.name).join(", ")}</td>
                  <td className="pr-6 text-muted">{new Date(s.opened_at).toLocaleString()}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </main>
    </div>
  );
}
