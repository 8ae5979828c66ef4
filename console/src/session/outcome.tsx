// What came of a request: the decision, every check with the values that it saw, and what changed.

import type { Answer, Decision } from "../shared/api";
import { Verdict } from "../shared/signs";
import { format, nameOf } from "./copy";
import { useWatch } from "./watch";

// Tally counts what came of requests that were sent at once.
export function Tally({ answers }: { answers: Answer[] }) {
  const outcomes = [...new Set(answers.map((a) => a.outcome))];
  return (
    <p aria-label="Of those sent at once" className="border-t border-line pt-3">
      {outcomes.map((o, i) => (
        <span key={o}>
          {i > 0 && ", "}
          <span className="value">{answers.filter((a) => a.outcome === o).length}</span> {o}
        </span>
      ))}
    </p>
  );
}

// Outcome shows a decision: what the client was told, and what only those who run the session know.
export function Outcome({ answer, full }: { answer: Answer; full?: Decision }) {
  return (
    <section aria-label="Decision" aria-live="polite" className="border-t border-line pt-3">
      <p data-testid="decision">
        <Verdict outcome={answer.outcome} />
        {answer.reason && <>: {answer.reason}</>}
        {answer.reply !== undefined && (
          <>
            , replied <span className="value">{JSON.stringify(answer.reply)}</span>
          </>
        )}
      </p>
      {answer.stage && (
        <p className="text-muted">decided at {answer.stage === "from" ? "from (who may ask)" : answer.stage}</p>
      )}
      {full?.checks && full.checks.length > 0 ? (
        <Checks checks={full.checks} />
      ) : (
        full?.check_text && (
          <p className="mt-1">
            <span className="text-muted">line {full.line}: </span>
            <code className="value">check {full.check_text}</code>
          </p>
        )
      )}
      {full?.outcome === "faulted" && (
        <p className="mt-1">
          <span className="text-muted">line {full.line}: </span>
          {full.reason}
        </p>
      )}
      {full && answer.outcome === "accepted" && <Changes decision={full} />}
      {full && full.told.length > 0 && <p className="mt-1 text-note">told {full.told.join(", ")}</p>}
      {answer.outcome !== "accepted" && <p className="mt-1 text-muted">Nothing changed.</p>}
    </section>
  );
}

const results: Record<string, [sign: string, colour: string]> = {
  passed: ["✓", "text-good"],
  failed: ["✕", "text-bad"],
  "not reached": ["·", "text-muted"],
};

function Checks({ checks }: { checks: NonNullable<Decision["checks"]> }) {
  return (
    <ul aria-label="Checks" className="mt-2">
      {checks.map((c) => {
        const [sign, colour] = results[c.result] ?? ["", ""];
        return (
          <li key={c.line} className="border-t border-line py-1">
            <div className="flex gap-2">
              <span className={colour} title={c.result}>
                <span aria-hidden="true">{sign}</span>
                <span className="sr-only">{c.result}</span>
              </span>
              <code className="value min-w-0 flex-1 break-words">{c.text}</code>
              <span className="text-xs text-muted">line {c.line}</span>
            </div>
            {c.values?.map((v) => (
              <div key={v.name} className="value flex gap-2 pl-5 text-muted">
                <span className="shrink-0">{v.name}</span>
                <span className={c.result === "failed" ? "text-bad" : ""}>{v.words}</span>
              </div>
            ))}
          </li>
        );
      })}
    </ul>
  );
}

function Changes({ decision }: { decision: Decision }) {
  const { outline, server } = useWatch();
  if (decision.changes.length === 0) return <p className="text-muted">It changed nothing.</p>;
  return (
    <table className="mt-2 w-full">
      <tbody>
        {decision.changes.map((c) => {
          const type = outline?.kinds
            .find((k) => k.name === c.kind)
            ?.properties.find((p) => p.name === c.property)?.type;
          return (
            <tr key={`${c.entity}/${c.property}`} className="border-t border-line align-top">
              <td className="py-1 pr-2">
                {nameOf(server.clients, c)}.{c.property}
              </td>
              <td className="value py-1">
                {format(type, c.old)} → {format(type, c.new)}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
