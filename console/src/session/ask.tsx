// The drawer: one request as one test client, legal or forged, and the decision that came back.

import { ToggleGroup } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { api, message, type Answer, type Kind, type Param } from "../shared/api";
import { nameOf, things } from "./copy";
import { draftOf, valueOf, type Draft } from "./draft";
import { Field } from "./fields";
import { forgeriesOf, type Asking } from "./forge";
import { Holds, Writes } from "./hands";
import { keep, openKept } from "./kept";
import { KeptRow } from "./keptrow";
import { LinkChoice } from "./link";
import { Outcome, Tally } from "./outcome";
import { pick } from "./pick";
import { useWatch, type Column } from "./watch";

type Mode = "ask" | "hold" | "write" | "forge";

const modes: [Mode, string][] = [
  ["ask", "Ask"],
  ["hold", "Hold"],
  ["write", "Write"],
  ["forge", "Forge"],
];

// Drawer is what a test client is played with.
export function Drawer({ client }: { client: Column }) {
  const { id, outline } = useWatch();
  const [mode, setMode] = useState<Mode>("ask");
  useEffect(() => openKept(outline?.contract ?? ""), [outline]);
  return (
    <div className="flex flex-col gap-3 p-4">
      <LinkChoice session={id} client={client.number} />
      <ToggleGroup.Root
        type="single"
        value={mode}
        onValueChange={(next) => next && setMode(next as Mode)}
        aria-label="What is done"
        className="flex overflow-hidden rounded-sm border border-line"
      >
        {modes.map(([key, words]) => (
          <ToggleGroup.Item
            key={key}
            value={key}
            className="h-6 flex-1 cursor-pointer text-muted data-[state=on]:bg-act/10 data-[state=on]:font-semibold data-[state=on]:text-act"
          >
            {words}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
      {mode === "hold" && <Holds client={client} />}
      {mode === "write" && <Writes client={client} />}
      {(mode === "ask" || mode === "forge") && <Asks client={client} forging={mode === "forge"} />}
      <KeptRow />
    </div>
  );
}

function Asks({ client, forging }: { client: Column; forging: boolean }) {
  const { id, outline, server, decisions } = useWatch();
  const kinds = (outline?.kinds ?? []).filter((k) => k.requests.length > 0 && k.to !== "nobody");
  const names = kinds.flatMap((k) => k.requests.map((r) => `${k.name}.${r.name}`));
  const own = kinds.find((k) => k.per === client.role) ?? kinds[0];
  const [picked, setPicked] = useState(own ? `${own.name}.${own.requests[0]?.name}` : "");
  const [entity, setEntity] = useState(0);
  const [drafts, setDrafts] = useState<Record<string, Draft>>({});
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
  const again = (times: number) => ask(picked, { entity: target?.entity ?? 0, args: values() }, times);
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
  // What is forged begins as what was filled in.
  const [wasForging, setWasForging] = useState(false);
  if (forging !== wasForging) {
    setWasForging(forging);
    if (forging)
      setForged({
        request: picked,
        args: values()
          .map((v) => JSON.stringify(v))
          .join(", "),
      });
  }
  // Of several answers, the last one that was not accepted tells most.
  const answer = [...answers].sort((a, b) => a.seq - b.seq).findLast((a) => a.outcome !== "accepted") ?? answers.at(-1);
  const full = answer && decisions.find((d) => d.client.number === client.number && d.seq === answer.seq);
  const result = useRef<HTMLDivElement>(null);
  useEffect(() => {
    result.current?.scrollIntoView({ block: "nearest" }); // what it gives is a promise in some browsers
  }, [answers, full]);

  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        void send();
      }}
    >
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
        <span className="flex justify-between">
          On
          <button
            type="button"
            className="link text-xs"
            onClick={(e) => {
              e.preventDefault();
              pick({ what: "entity", words: `${picked} is asked of`, kinds: [kindName], take: setEntity });
            }}
          >
            pick on the map
          </button>
        </span>
        <select
          className="field"
          aria-label="On"
          value={target?.entity ?? 0}
          onChange={(e) => setEntity(Number(e.target.value))}
        >
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
      <div className="flex items-center gap-2">
        <button className="button main" type="submit" disabled={busy}>
          {forging ? "Send forged" : "Ask"}
        </button>
        {!forging && (
          <>
            <button className="button" type="button" disabled={busy} onClick={() => void again(2)}>
              Twice
            </button>
            <button
              className="button"
              type="button"
              title="Keep this press, to be played again"
              onClick={() => {
                const entity = kind?.shared || target === mine ? 0 : (target?.entity ?? 0);
                keep({ client: client.name, request: picked, entity, args: values() }, performance.now());
              }}
            >
              Keep
            </button>
          </>
        )}
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
