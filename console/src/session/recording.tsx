// A stretch of a recording, played into the session's page: sheet, map, flow and time line, as the server and each
// client were then.

import { useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, message, type Stretch } from "../shared/api";
import { Bar } from "../shared/bar";
import { SessionView } from "./page";
import { playBack } from "./watch";
import { useRecording } from "./why";

// shownTicks is how many ticks are played at once.
const shownTicks = 1200;

export default function RecordingPage() {
  const id = Number(useParams().id);
  const [params, setParams] = useSearchParams();
  const to = Number(params.get("to")) || 0;
  const [stretch, setStretch] = useState<Stretch>();
  const [error, setError] = useState("");
  useEffect(() => {
    document.title = `Recording ${id} · Kamerad`;
    let gone = false;
    api
      .playRecording(id, to ? Math.max(0, to - shownTicks) : 0, to)
      .then(({ result, messages }) => {
        if (gone) return;
        playBack(messages, result.to);
        setStretch(result);
        setError("");
      })
      .catch((e) => !gone && setError(message(e)));
    return () => {
      gone = true;
    };
  }, [id, to]);
  useEffect(() => {
    useRecording.setState({ id });
    return () => useRecording.setState({ id: 0 });
  }, [id]);
  const go = (tick: number) =>
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        next.set("to", String(Math.max(1, tick)));
        return next;
      },
      { replace: true },
    );
  const title = (
    <>
      <Link className="text-muted hover:text-ink" to={`/sessions/${id}`}>
        Session {id}
      </Link>
      <h1 className="truncate font-semibold">Recording</h1>
    </>
  );
  if (!stretch)
    return (
      <div className="flex h-full flex-col">
        <Bar title={title} />
        <p className="p-4">
          {error ? (
            <span role="alert" className="text-bad">
              {error}
            </span>
          ) : (
            <span className="text-muted">The recording is played again…</span>
          )}
        </p>
      </div>
    );
  return <SessionView title={title} told={<Jump key={stretch.to} stretch={stretch} error={error} go={go} />} />;
}

// Jump says which ticks are shown, and goes to others.
function Jump({ stretch, error, go }: { stretch: Stretch; error: string; go: (tick: number) => void }) {
  const [wanted, setWanted] = useState(String(stretch.to));
  return (
    <form
      className="flex flex-wrap items-center gap-3 border-b border-line bg-raised px-4 py-1"
      onSubmit={(e) => {
        e.preventDefault();
        go(Number(wanted));
      }}
    >
      <span role="status">
        Ticks <span className="value">{stretch.from + 1}</span> to <span className="value">{stretch.to}</span> of{" "}
        <span className="value">{stretch.last}</span>
      </span>
      {stretch.from > 0 && (
        <button type="button" className="link" onClick={() => go(stretch.from)}>
          Earlier
        </button>
      )}
      {stretch.to < stretch.last && (
        <button type="button" className="link" onClick={() => go(Math.min(stretch.to + shownTicks, stretch.last))}>
          Later
        </button>
      )}
      <label className="flex items-center gap-2">
        up to tick
        <input
          className="field w-24"
          type="number"
          min={1}
          max={stretch.last}
          value={wanted}
          onChange={(e) => setWanted(e.target.value)}
        />
      </label>
      <button className="button">Go there</button>
      {error && (
        <span role="alert" className="text-bad">
          {error}
        </span>
      )}
    </form>
  );
}
