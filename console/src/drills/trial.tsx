// One run of drills, or one audit: its progress, what came of it, and what led there.

import { useEffect, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import {
  api,
  message,
  type AuditCell,
  type AuditReport,
  type DrillReport,
  type DrillResult,
  type Trial,
} from "../shared/api";
import { Bar } from "../shared/bar";
import { shapeOf } from "../shared/signs";
import { Table } from "../shared/table";
import { TrialState } from "./state";

const isUnderWay = (t: Trial) => t.state === "waiting" || t.state === "running";

export default function TrialPage() {
  const id = Number(useParams().id);
  const navigate = useNavigate();
  const [trial, setTrial] = useState<Trial>();
  const [newest, setNewest] = useState(0);
  const [error, setError] = useState("");
  useEffect(() => {
    document.title = `Trial ${id} · Kamerad`;
    let timer: ReturnType<typeof setTimeout> | undefined;
    let gone = false;
    const look = () =>
      api.trial(id).then(
        (t) => {
          if (gone) return;
          setTrial(t);
          if (isUnderWay(t)) timer = setTimeout(look, 500);
        },
        (e) => !gone && setError(message(e)),
      );
    void look();
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  }, [id]);
  const contract = trial?.contract;
  useEffect(() => {
    if (contract)
      api.contracts().then(
        (list) => setNewest(list.find((c) => c.contract === contract)?.version ?? 0),
        () => {},
      );
  }, [contract]);
  const again = () => {
    if (trial?.asked)
      api.startTrial(trial.contract, newest, trial.asked).then(
        (t) => navigate(`/trials/${t.id}`),
        (e) => setError(message(e)),
      );
  };
  return (
    <div className="flex h-full flex-col">
      <Bar
        title={
          trial && (
            <h1 className="font-semibold">
              {trial.what === "audit" ? "Audit" : "Drills"} {trial.id} of {trial.contract} {trial.version}
            </h1>
          )
        }
      >
        {trial && isUnderWay(trial) && (
          <button className="button" onClick={() => void api.stopTrial(id)}>
            Stop
          </button>
        )}
        {trial?.asked && newest > 0 && !isUnderWay(trial) && (
          <button className="button main" onClick={again}>
            Run again on version {newest}
          </button>
        )}
      </Bar>
      <main className="flex-1 overflow-auto p-4">
        {error && (
          <p role="alert" className="mb-3 text-bad">
            {error}{" "}
            <Link className="link" to="/drills">
              All drills
            </Link>
          </p>
        )}
        {trial && (
          <p className="mb-4">
            <TrialState trial={trial} /> <span className="text-muted">{trial.summary}</span>
          </p>
        )}
        {trial && isUnderWay(trial) && trial.of > 0 && (
          <progress className="w-80" max={trial.of} value={trial.done} aria-label="Runs that are done" />
        )}
        {trial?.report && trial.what === "drills" && <Drills trial={trial} report={trial.report as DrillReport} />}
        {trial?.report && trial.what === "audit" && <Audit id={trial.id} report={trial.report as AuditReport} />}
      </main>
    </div>
  );
}

function Drills({ trial, report }: { trial: Trial; report: DrillReport }) {
  const [params, setParams] = useSearchParams();
  const results = [...report.results].sort((a, b) => Number(a.passed) - Number(b.passed));
  const picked = results.find((r) => r.drill === params.get("drill")) ?? results.find((r) => !r.passed);
  return (
    <div className="flex flex-col gap-6">
      {picked?.failure && <Failed trial={trial} result={picked} />}
      <Table
        label="Drills"
        rows={results}
        keyOf={(r) => `${r.file}/${r.line}`}
        chosen={(r) => r === picked}
        columns={[
          {
            name: "Drill",
            value: (r) => r.drill,
            cell: (r) => (
              <button className="cursor-pointer text-left" onClick={() => setParams({ drill: r.drill })}>
                {r.drill}
              </button>
            ),
          },
          {
            name: "Result",
            value: (r) => Number(r.passed),
            cell: (r) =>
              r.passed ? (
                <span className="text-good">✓ passed</span>
              ) : (
                <span className="text-bad">✕ {r.failure?.message}</span>
              ),
          },
          { name: "Ticks", right: true, value: (r) => r.ticks, cell: (r) => <span className="value">{r.ticks}</span> },
          { name: "Runs", right: true, value: (r) => r.runs, cell: (r) => <span className="value">{r.runs}</span> },
          {
            name: "Place",
            cell: (r) => (
              <span className="text-muted">
                line {r.line} of {r.file}
              </span>
            ),
          },
          {
            name: "See it",
            cell: (r) => (
              <Link className="link" to={playAddress(trial, r)} aria-label={`Play ${r.drill}`}>
                Play
              </Link>
            ),
          },
        ]}
      />
    </div>
  );
}

function playAddress(trial: Trial, r: DrillResult): string {
  return `/trials/${trial.id}/play?drill=${encodeURIComponent(r.drill)}`;
}

// Failed says what of a drill was not as expected: side by side, with what led there.
function Failed({ trial, result }: { trial: Trial; result: DrillResult }) {
  const f = result.failure;
  if (!f) return null;
  return (
    <section aria-label={`Why ${result.drill} failed`} className="border-l-2 border-bad bg-raised p-4">
      <h2 className="text-base font-semibold">{result.drill}</h2>
      <p className="text-bad">✕ {f.message}</p>
      <p className="text-muted">
        tick <span className="value">{f.tick}</span>, line {f.line} of {result.file}:
      </p>
      <pre className="value my-1">{f.text}</pre>
      {result.shaken && (
        <p className="text-warn">
          over links with {result.shaken.faults.map((x) => `${x.client} ${x.what}`).join(", ") || "other dice"},
          {` seed ${result.shaken.seed}`}
        </p>
      )}
      {f.sheet && (
        <table className="my-3 border-collapse" aria-label="Who holds what">
          <tbody>
            {f.sheet.map((b) => (
              <tr key={b.client} className="border-b border-line">
                <th scope="row" className="pr-6 font-normal">
                  {b.client > 0 && (
                    <span aria-hidden="true" className="text-muted">
                      {shapeOf(b.client)}{" "}
                    </span>
                  )}
                  {b.who}
                </th>
                <td className="value pr-6">{b.value}</td>
                <td className="text-warn">{!!b.behind && `+${b.behind}`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Link className="button main my-2" to={playAddress(trial, result)}>
        Show it in the sheet at its tick
      </Link>
      {!!f.causes?.length && (
        <>
          <h3 className="mt-2 font-semibold">What last changed it on the server</h3>
          <pre className="value overflow-x-auto">{f.causes.join("\n")}</pre>
        </>
      )}
      {!!f.before?.length && (
        <details className="mt-2">
          <summary className="link">What led there</summary>
          <pre className="value overflow-x-auto">{f.before.join("\n")}</pre>
        </details>
      )}
    </section>
  );
}

function Audit({ id, report: r }: { id: number; report: AuditReport }) {
  return (
    <div className="flex flex-col gap-6">
      <p>
        <b>{r.tried.toLocaleString("en")}</b> attacks in {r.ticks.toLocaleString("en")} ticks;{" "}
        {(100 * r.filled).toFixed(1)} % of what can be tried was reached.
      </p>
      {r.causes.length > 0 && (
        <section aria-label="What attacks came to">
          <h2 className="mb-1 text-base font-semibold">What attacks came to</h2>
          <ul className="flex flex-col gap-3">
            {r.causes.map((c, i) => (
              <li key={c.text} className="border-l-2 border-bad pl-3">
                <p className="text-bad">✕ {c.text}</p>
                <p className="text-muted">
                  seen {c.times} times: {c.seen.join("; ")}
                </p>
                {!!c.run?.length && (
                  <>
                    <p>
                      The shortest run that leads there
                      {c.state === "setting" && (
                        <span className="text-muted">, with values that the audit set</span>
                      )}:{" "}
                      {c.played && (
                        <Link className="link" to={`/trials/${id}/play?effect=${i + 1}`}>
                          Play it
                        </Link>
                      )}
                    </p>
                    <ol className="value list-inside list-decimal">
                      {c.run.map((line, at) => (
                        <li key={at}>{line}</li>
                      ))}
                    </ol>
                  </>
                )}
              </li>
            ))}
          </ul>
        </section>
      )}
      {r.findings.map((f) => (
        <p key={f} className="text-warn">
          ! {f}
        </p>
      ))}
      <section aria-label="What was tried" className="overflow-x-auto">
        <h2 className="mb-1 text-base font-semibold">What was tried</h2>
        <p className="mb-2 text-muted">
          Attacks tried on each target, <span className="text-bad">✕</span> where something came of one; blank where it
          cannot be tried, · where it was not reached.
        </p>
        <Table
          label="What was tried"
          rows={r.rows}
          keyOf={(row) => `${row.sort}/${row.name}`}
          columns={[
            {
              name: "Target",
              value: (row) => row.name,
              cell: (row) => (
                <span className="value whitespace-nowrap">
                  {row.name} <span className="text-muted">{row.sort}</span>
                </span>
              ),
            },
            ...r.attacks.map((attack, i) => ({
              name: attack,
              right: true,
              value: (row: AuditReport["rows"][number]) => row.cells[i]?.tried ?? 0,
              cell: (row: AuditReport["rows"][number]) => <AuditSign cell={row.cells[i]} />,
            })),
          ]}
        />
      </section>
    </div>
  );
}

function AuditSign({ cell: c }: { cell: AuditCell | undefined }) {
  if (!c) return null;
  const outcomes = Object.entries(c.outcomes ?? {}).map(([what, n]) => `${what}: ${n}`);
  if (c.effects?.length)
    return (
      <span className="whitespace-nowrap text-bad" title={c.effects.join("\n")}>
        ✕ {c.tried}
        <span className="sr-only"> {c.effects.join("; ")}</span>
      </span>
    );
  if (c.tried === 0)
    return (
      <span className="text-muted" title={c.why ?? ""}>
        {c.reached ? "" : "·"}
        {!c.reached && <span className="sr-only">not reached: {c.why}</span>}
      </span>
    );
  return (
    <span className="value" title={outcomes.join("\n")}>
      {c.tried}
    </span>
  );
}
