// The list of sessions, with how each does at the moment.

import { useCallback, useEffect, useState } from "react";
import { Link } from "react-router";
import { api, message, type Session } from "../shared/api";
import { Bar } from "../shared/bar";
import { OpenSession } from "../shared/open";
import { Table } from "../shared/table";
import { First } from "./first";

const every = 2000; // ms between two looks

export function SessionsPage() {
  const [sessions, setSessions] = useState<Session[]>();
  const [error, setError] = useState("");
  const [find, setFind] = useState("");
  const load = useCallback(
    () =>
      api.sessions().then(
        (list) => {
          setSessions(list);
          setError("");
        },
        (e) => setError(message(e)),
      ),
    [],
  );
  useEffect(() => {
    document.title = "Sessions · Kamerad";
    void load();
    const look = () => document.hidden || void load();
    const timer = setInterval(look, every);
    window.addEventListener("focus", look);
    return () => {
      clearInterval(timer);
      window.removeEventListener("focus", look);
    };
  }, [load]);
  const shown = (sessions ?? []).filter((s) => matches(s, find));
  return (
    <div className="flex h-full flex-col">
      <Bar>
        <OpenSession />
      </Bar>
      <main className="flex-1 overflow-auto p-4">
        {sessions && <First sessions={sessions} />}
        <div className="mb-3 flex items-center gap-4">
          <h1 className="text-lg font-semibold">Sessions</h1>
          <input
            className="field w-64!"
            type="search"
            aria-label="Find sessions"
            placeholder="Find: number, contract, client, open"
            value={find}
            onChange={(e) => setFind(e.target.value)}
          />
          {sessions && (
            <span className="text-muted">
              {sessions.filter((s) => s.open).length} open, {sessions.filter((s) => !s.open).length} closed
            </span>
          )}
        </div>
        {error && (
          <p role="alert" className="mb-3 text-bad">
            {error}
          </p>
        )}
        {sessions?.length === 0 && (
          <p>
            No session was opened yet. Publish a contract under{" "}
            <Link className="link" to="/contracts">
              Contracts
            </Link>
            , then open a session of it here.
          </p>
        )}
        {sessions && sessions.length > 0 && shown.length === 0 && (
          <p className="text-muted">No session is as asked for.</p>
        )}
        {shown.length > 0 && <List sessions={shown} />}
      </main>
    </div>
  );
}

// matches tells whether all words that are looked for stand in what is known of a session.
function matches(s: Session, find: string): boolean {
  const known = [
    s.id,
    s.contract,
    s.open ? "open" : "closed",
    s.paused ? "paused" : "",
    ...s.clients.map((c) => c.name),
  ]
    .join(" ")
    .toLowerCase();
  return find
    .toLowerCase()
    .split(/\s+/)
    .every((word) => known.includes(word));
}

function List({ sessions }: { sessions: Session[] }) {
  return (
    <Table
      label="Sessions"
      rows={sessions}
      keyOf={(s) => String(s.id)}
      columns={[
        {
          name: "Session",
          right: true,
          value: (s) => s.id,
          cell: (s) => (
            <Link className="link value" to={`/sessions/${s.id}`} aria-label={`Session ${s.id}`}>
              {s.id}
            </Link>
          ),
        },
        {
          name: "Contract",
          value: (s) => s.contract,
          cell: (s) => (
            <>
              {s.contract} <span className="text-muted">version {s.version}</span>
            </>
          ),
        },
        { name: "State", value: (s) => Number(s.open), cell: (s) => <State session={s} /> },
        {
          name: "Tick",
          right: true,
          value: (s) => s.tick,
          cell: (s) => <span className="value">{s.tick.toLocaleString("en")}</span>,
        },
        {
          name: "Clients",
          value: (s) => s.clients.length,
          cell: (s) => (
            <span className="block max-w-80 truncate" title={s.clients.map((c) => c.name).join(", ")}>
              {s.clients.length > 0 && <span className="value text-muted">{s.clients.length} </span>}
              {s.clients.map((c) => c.name).join(", ")}
            </span>
          ),
        },
        {
          name: "Opened",
          value: (s) => s.opened_at,
          cell: (s) => <span className="text-muted">{new Date(s.opened_at).toLocaleString()}</span>,
        },
      ]}
    />
  );
}

function State({ session: s }: { session: Session }) {
  if (!s.open) return <span className="text-muted">closed: {s.close_reason}</span>;
  return (
    <>
      <span className="text-good">{s.paused ? "paused" : "open"}</span>
      {s.seed && (
        <span className="text-muted" title="what is done in it can become a drill">
          , an exercise
        </span>
      )}
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
        <span className="text-warn"> ! failed inside {s.faults.count === 1 ? "once" : `${s.faults.count} times`}</span>
      )}
    </>
  );
}
