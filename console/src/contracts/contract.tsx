// The page of one contract: its text, what the checker says of it, and its versions.

import { Tabs } from "radix-ui";
import { lazy, Suspense, useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import {
  api,
  message,
  type Comparison,
  type Explanation,
  type Finding,
  type Report,
  type Version,
} from "../shared/api";
import { Bar } from "../shared/bar";
import { OpenSession } from "../shared/open";
import { Publish, RefusedList, type Refused } from "./publish";
import { ComparisonView, CostTables, MatrixTables, OutlineView } from "./tables";

const Source = lazy(() => import("./source"));

const tabs = [
  ["source", "Text"],
  ["matrix", "Who may what"],
  ["cost", "Cost"],
  ["outline", "Outline"],
  ["versions", "Versions"],
] as const;

export default function ContractPage() {
  const name = useParams().name ?? "";
  return <Contract key={name} name={name} />;
}

function Contract({ name }: { name: string }) {
  const [params, setParams] = useSearchParams();
  const number = Number(params.get("version")) || 0;
  const tab = params.get("tab") ?? "source";
  const [versions, setVersions] = useState<Version[]>([]);
  const [version, setVersion] = useState<Version>();
  const [report, setReport] = useState<Report>();
  const [error, setError] = useState("");
  const [refused, setRefused] = useState<Refused>();
  useEffect(() => {
    document.title = `${name} · Kamerad`;
    let gone = false;
    const fail = (e: unknown) => !gone && setError(message(e));
    api.versions(name).then((list) => !gone && setVersions(list), fail);
    api.version(name, number).then((v) => !gone && setVersion(v), fail);
    api.report(name, number).then((r) => !gone && setReport(r), fail);
    return () => {
      gone = true;
    };
  }, [name, number]);
  const put = (changes: Record<string, string>) => {
    const next = new URLSearchParams(params);
    for (const [key, value] of Object.entries(changes)) next.set(key, value);
    setParams(next, { replace: true });
  };
  const showLine = (line: number) => put({ tab: "source", line: String(line), file: "" });
  return (
    <div className="flex h-full flex-col">
      <Bar title={<h1 className="font-semibold">{name}</h1>}>
        {versions.length > 0 && (
          <label>
            <span className="sr-only">Version</span>
            <select
              className="small"
              value={number || versions[0]?.version}
              onChange={(e) => put({ version: e.target.value })}
            >
              {versions.map((v) => (
                <option key={v.version} value={v.version}>
                  version {v.version}
                </option>
              ))}
            </select>
          </label>
        )}
        <Link className="link" to={`/drills?contract=${name}`}>
          Drills and audit
        </Link>
        <Publish onRefused={setRefused} />
        {version && <OpenSession contract={name} version={version.version} />}
      </Bar>
      {error && (
        <p role="alert" className="p-4 text-bad">
          {error}{" "}
          <Link className="link" to="/contracts">
            All contracts
          </Link>
        </p>
      )}
      {version && (
        <Tabs.Root value={tab} onValueChange={(t) => put({ tab: t })} className="flex min-h-0 flex-1 flex-col">
          <Tabs.List className="flex shrink-0 border-b border-line bg-raised px-1" aria-label="What is shown of it">
            {tabs.map(([key, words]) => (
              <Tabs.Trigger key={key} className="tab" value={key}>
                {words}
              </Tabs.Trigger>
            ))}
            <span className="flex-1" />
            <span className="self-center pr-4 text-muted">
              published {new Date(version.published_at).toLocaleString()}, outline{" "}
              <span className="value">{version.fingerprint}</span>
            </span>
          </Tabs.List>
          <div className="px-4 pt-2 empty:hidden">
            <RefusedList refused={refused} />
          </div>
          <Tabs.Content value="source" className="min-h-0 flex-1">
            <Text
              version={version}
              line={Number(params.get("line")) || 0}
              file={params.get("file") ?? ""}
              onPlace={(file, line) => put({ file, line: String(line) })}
            />
          </Tabs.Content>
          <Tabs.Content value="matrix" className="min-h-0 flex-1 overflow-auto p-4">
            {report && <MatrixTables matrix={report.matrix} onLine={showLine} />}
          </Tabs.Content>
          <Tabs.Content value="cost" className="min-h-0 flex-1 overflow-auto p-4">
            {report && <CostTables cost={report.cost} />}
          </Tabs.Content>
          <Tabs.Content value="outline" className="min-h-0 flex-1 overflow-auto p-4">
            {report && <OutlineView outline={report.outline} />}
          </Tabs.Content>
          <Tabs.Content value="versions" className="min-h-0 flex-1 overflow-auto p-4">
            <Versions name={name} versions={versions} shown={version.version} />
          </Tabs.Content>
        </Tabs.Root>
      )}
    </div>
  );
}

// Text shows the text of one of the contract's files beside the findings.
function Text(props: { version: Version; line: number; file: string; onPlace: (file: string, line: number) => void }) {
  const { version, onPlace } = props;
  const own = `${version.contract}.kam`;
  const texts: Record<string, string> = { [own]: version.source ?? "", ...version.files };
  const file = texts[props.file] === undefined ? own : props.file;
  const findings = version.findings ?? [];
  return (
    <div className="flex h-full min-h-0">
      <div className="flex min-w-0 flex-1 flex-col">
        {Object.keys(texts).length > 1 && (
          <div className="flex gap-1 border-b border-line px-2" role="group" aria-label="Files">
            {Object.keys(texts).map((f) => (
              <button
                key={f}
                className="cursor-pointer px-2 py-1 text-xs text-muted aria-pressed:font-semibold aria-pressed:text-ink"
                aria-pressed={f === file}
                onClick={() => onPlace(f, 0)}
              >
                {f}
              </button>
            ))}
          </div>
        )}
        <div className="min-h-0 flex-1">
          <Suspense fallback={<p className="p-4 text-muted">Reading…</p>}>
            <Source
              text={texts[file] ?? ""}
              name={file}
              findings={findings.filter((f) => f.file === file)}
              line={props.line}
            />
          </Suspense>
        </div>
      </div>
      <aside aria-label="Findings" className="w-80 shrink-0 overflow-auto border-l border-line bg-raised p-4">
        <h2 className="mb-2 font-semibold">
          Findings <span className="value text-muted">{findings.length}</span>
        </h2>
        {findings.length === 0 && (
          <p className="text-muted">
            The checker knows of no danger in this version. What it looks for: <Explained code="" findings={findings} />
          </p>
        )}
        <ul className="flex flex-col gap-4">
          {findings.map((f) => (
            <li key={`${f.file}/${f.line}/${f.column}/${f.code}`}>
              <p className="text-warn">! {f.message}</p>
              {f.hint && <p className="text-muted">{f.hint}</p>}
              <button className="link mr-3" onClick={() => onPlace(f.file, f.line)}>
                line {f.line} of {f.file}
              </button>
              <Explained code={f.code} findings={findings} />
            </li>
          ))}
        </ul>
      </aside>
    </div>
  );
}

// Explained says what a kind of finding means and how to mend it; without a code, which kinds there are.
function Explained({ code }: { code: string; findings: Finding[] }) {
  const [all, setAll] = useState<Explanation[]>();
  const show = () => {
    if (!all) api.findings().then(setAll, () => setAll([]));
  };
  const one = all?.find((e) => e.name === code);
  return (
    <details className="mt-1" onToggle={show}>
      <summary className="link">{code ? `What ${code} means` : "all kinds"}</summary>
      {!code &&
        all?.map((e) => (
          <p key={e.name} className="mt-1">
            <b>{e.name}</b> <span className="text-muted">{e.title}</span>
          </p>
        ))}
      {one && (
        <div className="mt-1 flex flex-col gap-2 text-xs">
          <p>
            <b>{one.title}</b> {one.harm}
          </p>
          <p className="text-bad">With it:</p>
          <pre className="value overflow-x-auto">{one.example}</pre>
          <p className="text-good">Mended:</p>
          <pre className="value overflow-x-auto">{one.mended}</pre>
        </div>
      )}
    </details>
  );
}

function Versions({ name, versions, shown }: { name: string; versions: Version[]; shown: number }) {
  const [from, setFrom] = useState(Math.max(1, shown - 1));
  const [comparison, setComparison] = useState<Comparison>();
  const [error, setError] = useState("");
  useEffect(() => {
    let gone = false;
    api.compare(name, from, shown).then(
      (c) => !gone && setComparison(c),
      (e) => !gone && setError(message(e)),
    );
    return () => {
      gone = true;
    };
  }, [name, from, shown]);
  return (
    <div className="flex flex-col gap-4">
      <ul>
        {versions.map((v) => (
          <li key={v.version}>
            <Link className="link" to={`/contracts/${name}?version=${v.version}`}>
              version {v.version}
            </Link>{" "}
            <span className="text-muted">
              published {new Date(v.published_at).toLocaleString()}, outline{" "}
              <span className="value">{v.fingerprint}</span>
            </span>
          </li>
        ))}
      </ul>
      <label>
        What differs from{" "}
        <select className="small" value={from} onChange={(e) => setFrom(Number(e.target.value))}>
          {versions.map((v) => (
            <option key={v.version} value={v.version}>
              version {v.version}
            </option>
          ))}
        </select>{" "}
        in version {shown}
      </label>
      {error && (
        <p role="alert" className="text-bad">
          {error}
        </p>
      )}
      {comparison && <ComparisonView comparison={comparison} />}
    </div>
  );
}
