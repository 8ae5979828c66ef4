// A drill, or a run that an audit found, played into the session's page: sheet, map, flow and time line, at the tick
// where it failed.

import { useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { SessionView } from "../session/page";
import { playBack, useWatch } from "../session/watch";
import { api, message, type DrillReport, type DrillResult, type Effect, type Trial } from "../shared/api";
import { Bar } from "../shared/bar";
import { aboutOf, filterOf, rowOf } from "./filter";

export default function PlayPage() {
  const id = Number(useParams().id);
  const [params] = useSearchParams();
  const effect = Number(params.get("effect"));
  return effect ? <PlayedEffect id={id} effect={effect} /> : <PlayedDrill id={id} />;
}

// Waiting is what is shown until something has been played, or cannot be.
function Waiting(props: { id: number; title: string; told: string; error: string; back: string }) {
  return (
    <div className="flex h-full flex-col">
      <Bar title={<h1 className="font-semibold">{props.title}</h1>} />
      <p className="p-4">
        {props.error ? (
          <span role="alert" className="text-bad">
            {props.error}{" "}
          </span>
        ) : (
          <span className="text-muted">{props.told} </span>
        )}
        <Link className="link" to={`/trials/${props.id}`}>
          {props.back}
        </Link>
      </p>
    </div>
  );
}

// PlayedEffect is the shortest run of what an audit found, played into the session's page at the tick where it shows.
function PlayedEffect({ id, effect }: { id: number; effect: number }) {
  const [result, setResult] = useState<Effect>();
  const [error, setError] = useState("");
  const title = `Effect ${effect}`;
  useEffect(() => {
    document.title = `${title} · Kamerad`;
    let gone = false;
    api
      .playEffect(id, effect)
      .then(({ result: played, messages }) => {
        if (gone) return;
        playBack(messages, played.played?.ticks ?? 0);
        setResult(played);
      })
      .catch((e) => !gone && setError(message(e)));
    return () => {
      gone = true;
    };
  }, [id, effect, title]);
  if (!result)
    return <Waiting id={id} title={title} told="The run is played again… " error={error} back="Back to the audit" />;
  return (
    <SessionView
      title={
        <>
          <Link className="text-muted hover:text-ink" to={`/trials/${id}`}>
            Audit {id}
          </Link>
          <h1 className="truncate font-semibold">{title}</h1>
        </>
      }
      told={
        <p className="border-b border-line bg-raised px-4 py-1" role="status">
          <span className="text-bad">✕ {result.text}</span>{" "}
          <span className="text-muted">
            It shows in tick {result.played?.ticks}
            {result.state === "setting" && ", once the audit had set values itself"}.
          </span>
        </p>
      }
    />
  );
}

// PlayedDrill is a drill that is run again, at the tick where it failed.
function PlayedDrill({ id }: { id: number }) {
  const [params, setParams] = useSearchParams();
  const drill = params.get("drill") ?? "";
  const [trial, setTrial] = useState<Trial>();
  const [result, setResult] = useState<DrillResult>();
  const [error, setError] = useState("");
  useEffect(() => {
    document.title = `${drill} · Kamerad`;
    let gone = false;
    const play = async () => {
      const t = await api.trial(id);
      const before = (t.report as DrillReport | undefined)?.results.find((r) => r.drill === drill);
      const { result: played, messages } = await api.play(t.contract, t.version, {
        drills: t.asked?.drills ?? {},
        drill,
        ...(before?.shaken ? { shaken: before.shaken } : {}),
      });
      if (gone) return;
      setTrial(t);
      playBack(messages, played.failure?.tick ?? played.ticks);
      setResult(played);
    };
    play().catch((e) => !gone && setError(message(e)));
    return () => {
      gone = true;
    };
  }, [id, drill]);
  const failed = result?.failure;
  const about = failed && aboutOf(failed.text);
  const find = about ? filterOf(about) : "";
  const at = about ? rowOf(about, useWatch.getState()) : "";
  useEffect(() => {
    if (!find) return;
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        if (next.has("find")) return next; // somebody has looked for something else
        next.set("find", find);
        if (at) next.set("at", at);
        return next;
      },
      { replace: true },
    );
  }, [find, at, setParams]);
  if (!result || !trial)
    return (
      <Waiting
        id={id}
        title={drill}
        told="The drill is run again to be looked at… "
        error={error}
        back="Back to the drills"
      />
    );
  return (
    <SessionView
      title={
        <>
          <Link className="text-muted hover:text-ink" to={`/trials/${id}?drill=${encodeURIComponent(drill)}`}>
            Drills {id}
          </Link>
          <h1 className="truncate font-semibold" title={drill}>
            {drill}
          </h1>
        </>
      }
      told={
        <p className="border-b border-line bg-raised px-4 py-1" role="status">
          {failed ? (
            <>
              <span className="text-bad">✕ {failed.message}</span>{" "}
              <span className="text-muted">
                in tick {failed.tick}, line {failed.line}:
              </span>{" "}
              <code className="value">{failed.text}</code>
            </>
          ) : (
            <span className="text-good">✓ It passed, in {result.ticks} ticks.</span>
          )}
        </p>
      }
    />
  );
}
