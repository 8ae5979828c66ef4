// Drills and audits of a contract: what was run of each version, what came of it, and running more.

import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { read } from "../contracts/files";
import { api, message, Problem, type DrillReport, type Finding, type Trial, type Version } from "../shared/api";
import { Bar } from "../shared/bar";
import { Mistakes } from "../shared/mistakes";
import { Table } from "../shared/table";
import { TrialState } from "./state";
import { overVersions, type Over } from "./versions";

const shownVersions = 6; // the newest, whose results stand side by side

export default function DrillsPage() {
  const [params, setParams] = useSearchParams();
  const [contracts, setContracts] = useState<Version[]>([]);
  const [error, setError] = useState("");
  const picked = params.get("contract") ?? contracts[0]?.contract ?? "";
  useEffect(() => {
    document.title = "Drills and audit · Kamerad";
    api.contracts().then(setContracts, (e) => setError(message(e)));
  }, []);
  return (
    <div className="flex h-full flex-col">
      <Bar />
      <main className="flex-1 overflow-auto p-4">
        <div className="mb-3 flex items-center gap-4">
          <h1 className="text-lg font-semibold">Drills and audit</h1>
          {contracts.length > 0 && (
            <label>
              of{" "}
              <select className="small" value={picked} onChange={(e) => setParams({ contract: e.target.value })}>
                {contracts.map((c) => (
                  <option key={c.contract}>{c.contract}</option>
                ))}
              </select>
            </label>
          )}
        </div>
        {error && (
          <p role="alert" className="text-bad">
            {error}
          </p>
        )}
        {contracts.length === 0 && !error && (
          <p>
            No contract is published yet, so there is nothing to drill.{" "}
            <Link className="link" to="/contracts">
              Publish one
            </Link>
          </p>
        )}
        {picked && <OfContract key={picked} name={picked} />}
      </main>
    </div>
  );
}

// trialsOf reads the versions of a contract, and what was run of the newest of them, the newest first.
async function trialsOf(name: string): Promise<{ versions: Version[]; trials: Trial[] }> {
  const versions = await api.versions(name);
  const all = await Promise.all(versions.slice(0, shownVersions).map((v) => api.trials(name, v.version)));
  return { versions, trials: all.flat().sort((a, b) => b.id - a.id) };
}

function OfContract({ name }: { name: string }) {
  const navigate = useNavigate();
  const [versions, setVersions] = useState<Version[]>([]);
  const [trials, setTrials] = useState<Trial[]>();
  const [reports, setReports] = useState<Map<number, DrillReport>>(new Map());
  const [mistakes, setMistakes] = useState<Finding[]>([]);
  const [error, setError] = useState("");
  const [shake, setShake] = useState(0);
  const input = useRef<HTMLInputElement>(null);
  const load = useCallback(
    () =>
      trialsOf(name).then(
        ({ versions: list, trials: all }) => {
          setVersions(list);
          setTrials(all);
        },
        (e) => setError(message(e)),
      ),
    [name],
  );
  useEffect(() => {
    void load();
  }, [load]);
  const isUnderWay = trials?.some((t) => t.state === "waiting" || t.state === "running");
  useEffect(() => {
    if (!isUnderWay) return;
    const timer = setInterval(() => void load(), 1000);
    return () => clearInterval(timer);
  }, [isUnderWay, load]);
  // The newest drills of each version, for the table over versions.
  const newest = useMemo(() => {
    const of = new Map<number, number>();
    for (const t of trials ?? [])
      if (t.what === "drills" && t.state === "ended" && !of.has(t.version)) of.set(t.version, t.id);
    return of;
  }, [trials]);
  useEffect(() => {
    let gone = false;
    for (const [version, id] of newest)
      void api.trial(id).then((t) => {
        if (!gone && t.report) setReports((r) => new Map(r).set(version, t.report as DrillReport));
      });
    return () => {
      gone = true;
    };
  }, [newest]);
  const version = versions[0]?.version ?? 0;
  const start = async (asked: Parameters<typeof api.startTrial>[2]) => {
    try {
      setMistakes([]);
      setError("");
      const trial = await api.startTrial(name, version, asked);
      void navigate(`/trials/${trial.id}`);
    } catch (e) {
      setError(message(e));
      setMistakes(e instanceof Problem ? e.mistakes : []);
    }
  };
  const over = overVersions(reports);
  return (
    <div className="flex flex-col gap-6">
      <section aria-label="Run" className="flex items-center gap-3">
        <input
          ref={input}
          type="file"
          multiple
          accept=".drill"
          className="sr-only"
          tabIndex={-1}
          aria-label="Files of drills"
          onChange={(e) => {
            const list = e.target.files;
            if (list?.length) void read(list).then((drills) => start({ what: "drills", drills, shake }));
          }}
        />
        <button className="button main" onClick={() => input.current?.click()}>
          Run drills from files
        </button>
        <label>
          each over{" "}
          <select className="small" value={shake} onChange={(e) => setShake(Number(e.target.value))}>
            <option value={0}>its own links</option>
            <option value={20}>20 random links</option>
            <option value={100}>100 random links</option>
          </select>
        </label>
        <button className="button" onClick={() => void start({ what: "audit" })}>
          Audit
        </button>
        <span className="text-muted">on version {version}, the newest</span>
      </section>
      {error && (
        <div role="alert">
          <p className="mb-2 text-bad">{error}</p>
          <Mistakes list={mistakes} />
        </div>
      )}
      {over.length > 0 && <OverVersions over={over} reports={reports} newest={newest} />}
      <section aria-label="What was run">
        <h2 className="mb-1 text-base font-semibold">What was run</h2>
        {trials?.length === 0 && (
          <p className="text-muted">
            Nothing yet. Run drills from files here, or with{" "}
            <code className="value">kamerad drill FILE --published {name}</code>; a session that was opened as an
            exercise writes one of what is done in it.
          </p>
        )}
        {trials && trials.length > 0 && (
          <Table
            label="What was run"
            rows={trials}
            keyOf={(t) => String(t.id)}
            columns={[
              {
                name: "What",
                value: (t) => t.what,
                cell: (t) => (
                  <Link className="link" to={`/trials/${t.id}`}>
                    {t.what} {t.id}
                  </Link>
                ),
              },
              { name: "Version", right: true, value: (t) => t.version, cell: (t) => t.version },
              { name: "Result", value: (t) => t.state, cell: (t) => <TrialState trial={t} /> },
              { name: "Summary", cell: (t) => <span className="text-muted">{t.summary}</span> },
              {
                name: "Asked",
                value: (t) => t.asked_at,
                cell: (t) => <span className="text-muted">{new Date(t.asked_at).toLocaleString()}</span>,
              },
            ]}
          />
        )}
      </section>
    </div>
  );
}

function OverVersions(props: { over: Over[]; reports: Map<number, DrillReport>; newest: Map<number, number> }) {
  const versions = [...props.reports.keys()].sort((a, b) => b - a);
  return (
    <section aria-label="Drills over versions">
      <h2 className="mb-1 text-base font-semibold">Drills over versions</h2>
      <Table
        label="Drills over versions"
        rows={props.over}
        keyOf={(o) => o.drill}
        columns={[
          { name: "Drill", value: (o) => o.drill, cell: (o) => o.drill },
          ...versions.map((v) => ({
            name: `version ${v}`,
            value: (o: Over) => ({ true: 2, false: 0, undefined: 1 })[String(o.passed.get(v))] ?? 1,
            cell: (o: Over) => {
              const passed = o.passed.get(v);
              if (passed === undefined) return <span className="text-muted">–</span>;
              return (
                <Link
                  className={passed ? "text-good" : "text-bad underline"}
                  to={`/trials/${props.newest.get(v)}?drill=${encodeURIComponent(o.drill)}`}
                >
                  {passed ? "✓ passed" : "✕ failed"}
                </Link>
              );
            },
          })),
        ]}
      />
    </section>
  );
}
