// The drawer: one request as one test client, legal or forged, and the decision that came back.

import { Switch } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { api, message, type Answer, type Decision, type Kind, type Param } from "../shared/api";
import { format, nameOf, things } from "./copy";
import { Verdict } from "../shared/signs";
import { draftOf, valueOf, type Draft } from "./draft";
import { Field } from "./fields";
import { forgeriesOf, type Asking } from "./forge";
import { LinkChoice } from "./link";
import { useWatch, type Column } from "./watch";

export function Drawer({ client }: { client: Column }) {
  const { id, outline, server, decisions } = useWatch();
  const kinds = (outline?.kinds ?? []).filter((k) => k.requests.length > 0 && k.to !== "nobody");
  const names = kinds.flatMap((k) => k.requests.map((r) => `${k.name}.${r.name}`));
  const own = kinds.find((k) => k.per === client.role) ?? kinds[0];
  const [picked, setPicked] = useState(own ? `${own.name}.${own.requests[0]?.name}` : "");
  const [entity, setEntity] = useState(0);
  const [drafts, setDrafts] = useState<Record<string, Draft>>({});
  const [forging, setForging] = useState(false);
  const [forged, setForged] = useState({ request: "", args: "" });
  const [answers, setAnswers] = useState<Answer[]>([]);
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);

  const [kindName = "", requestName = ""] = picked.split(".");
  const kind = kinds.find((k) => k.name === kindName) as Kind | undefined;
  const request = kind?.requests.find((r) => r.name === requestName);
  const targets = things(server).filter((t) => t.kind === kindName);
  const mine = targets.find((t) => t.owner === client.number);
  const target = targets.find((t) => t.entity === entity) ?? mine ?? targets[0];

  const draft = (p: Param) => drafts[`${picked}.${p.name}`] ?? draftOf(p.type);
  const values = (): unknown[] => (request?.params ?? []).map((p) => valueOf(p.type, draft(p)));

  const send = async () => {
    setError("");
    let name = picked;
    let args = values();
    if (forging) {
      name = forged.request;
      try {
        args = forged.args.trim() === "" ? [] : (JSON.parse(`[${forged.args}]`) as unknown[]);
      } catch {
        setError(`The values are no JSON. Write texts in quotes: "pearl", 3, true`);
        return;
      }
    }
    await ask(name, { entity: target?.entity ?? 0, args }, 1);
  };
  const ask = async (name: string, { entity, args }: Asking, times: number) => {
    setError("");
    setBusy(true);
    try {
      const asked = Array.from({ length: times }, () => api.ask(id, client.number, entity, name, args));
      setAnswers(await Promise.all(asked));
    } catch (e) {
      setError(message(e));
    } finally {
      setBusy(false);
    }
  };
  const forgeries =
    forging && request
      ? forgeriesOf(
          request,
          { entity: mine?.entity ?? target?.entity ?? 0, args: values() },
          { foreign: targets.find((t) => t.owner !== client.number)?.entity, absent: absentOf(server.things) },
        )
      : [];
  const toggle = (on: boolean) => {
    if (on) {
      setForged({
        request: picked,
        args: values()
          .map((v) => JSON.stringify(v))
          .join(", "),
      });
    }
    setForging(on);
  };
  // Of several answers, the last one that was not accepted tells most.
  const answer = [...answers].sort((a, b) => a.seq - b.seq).findLast((a) => a.outcome !== "accepted") ?? answers.at(-1);
  const full = answer && decisions.find((d) => d.client.number === client.number && d.seq === answer.seq);
  const result = useRef<HTMLDivElement>(null);
  useEffect(() => {
    result.current?.scrollIntoView({ block: "nearest" }); // what it gives is a promise in some browsers
  }, [answers, full]);

  return (
    <form
      className="flex flex-col gap-3 p-4"
      onSubmit={(e) => {
        e.preventDefault();
        void send();
      }}
    >
      <LinkChoice session={id} client={client.number} />
      {forging ? (
        <label className="block">
          Request, as it stands
          <input
            className="field value"
            value={forged.request}
            onChange={(e) => setForged({ ...forged, request: e.target.value })}
          />
        </label>
      ) : (
        <label className="block">
          Request
          <select className="field" value={picked} onChange={(e) => setPicked(e.target.value)}>
            {names.map((n) => (
              <option key={n}>{n}</option>
            ))}
          </select>
        </label>
      )}
      <label className="block">
        On
        <select className="field" value={target?.entity ?? 0} onChange={(e) => setEntity(Number(e.target.value))}>
          {targets.map((t) => (
            <option key={t.entity} value={t.entity}>
              {nameOf(server.clients, t)}
              {t.owner === client.number ? " (its own)" : ""}
            </option>
          ))}
          {targets.length === 0 && <option value={0}>nothing: there is no {kindName}</option>}
        </select>
      </label>
      {forging ? (
        <label className="block">
          Values, as JSON
          <input
            className="field value"
            value={forged.args}
            onChange={(e) => setForged({ ...forged, args: e.target.value })}
          />
        </label>
      ) : (
        request?.params.map((p) => (
          <Field
            key={`${picked}.${p.name}`}
            label={p.name}
            type={p.type}
            draft={draft(p)}
            onChange={(d) => setDrafts({ ...drafts, [`${picked}.${p.name}`]: d })}
          />
        ))
      )}
      <div className="flex items-center justify-between">
        <label className="flex items-center gap-2">
          <Switch.Root
            className="h-5 w-9 rounded-sm border border-muted data-[state=checked]:border-act data-[state=checked]:bg-act"
            checked={forging}
            onCheckedChange={toggle}
          >
            <Switch.Thumb className="block h-4 w-4 translate-x-px rounded-sm bg-muted data-[state=checked]:translate-x-[17px] data-[state=checked]:bg-raised" />
          </Switch.Root>
          Forge
        </label>
        <button className="button main" type="submit" disabled={busy}>
          {forging ? "Send forged" : "Ask"}
        </button>
      </div>
      {forging && (
        <div role="group" aria-label="What a cheater would send" className="border-t border-line pt-2">
          <p className="pb-2 text-xs text-muted">What a cheater would send of {picked}</p>
          <div className="flex flex-wrap gap-2">
            {forgeries.map((f) => (
              <button
                key={f.words}
                type="button"
                className="h-6 cursor-pointer rounded-sm border border-line px-2 text-xs disabled:cursor-default"
                disabled={busy}
                onClick={() => {
                  setEntity(f.entity);
                  setForged({ request: picked, args: f.args.map((v) => JSON.stringify(v)).join(", ") });
                  void ask(picked, f, f.times);
                }}
              >
                {f.words}
              </button>
            ))}
          </div>
        </div>
      )}
      {!forging && request && (
        <div className="border-t border-line pt-2 text-xs text-muted">
          <div>
            from {request.from}
            {request.limit ? `, at most ${request.limit} in ${(request.limit_ms ?? 1000) / 1000} s` : ""}
            {request.pause_ms ? `, ${request.pause_ms / 1000} s apart` : ""}
          </div>
          {request.checks?.map((c) => (
            <div key={c.line} className="value">
              check {c.text}
            </div>
          ))}
        </div>
      )}
      {error && (
        <p role="alert" className="text-bad">
          {error}
        </p>
      )}
      <div ref={result} className="flex flex-col gap-3">
        {answers.length > 1 && <Tally answers={answers} />}
        {answer && <Outcome answer={answer} full={full} />}
      </div>
    </form>
  );
}

// absentOf gives a number that no entity has.
function absentOf(held: Map<number, unknown>): number {
  let n = 1;
  while (held.has(n)) n++;
  return n;
}

// Tally counts what came of requests that were sent at once.
function Tally({ answers }: { answers: Answer[] }) {
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
function Outcome({ answer, full }: { answer: Answer; full?: Decision }) {
  const { outline, server } = useWatch();
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
      {full?.check_text && (
        <p className="mt-1">
          <span className="text-muted">line {full.line}: </span>
          <code className="value">check {full.check_text}</code>
        </p>
      )}
      {full?.outcome === "faulted" && (
        <p className="mt-1">
          <span className="text-muted">line {full.line}: </span>
          {full.reason}
        </p>
      )}
      {full && answer.outcome === "accepted" && (
        <table className="mt-2 w-full">
          <tbody>
            {full.changes.map((c) => {
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
      )}
      {full && answer.outcome === "accepted" && full.changes.length === 0 && (
        <p className="text-muted">It changed nothing.</p>
      )}
      {full && full.told.length > 0 && <p className="mt-1 text-note">told {full.told.join(", ")}</p>}
      {answer.outcome !== "accepted" && <p className="mt-1 text-muted">Nothing changed.</p>}
    </section>
  );
}
