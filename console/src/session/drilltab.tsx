// The drill that is being recorded: what is done with clients becomes its lines, and cells that are pressed what it
// expects.

import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, message } from "../shared/api";
import { beginDrill, useDrill } from "./drill";
import { useWatch } from "./watch";

export default function DrillTab() {
  const id = useWatch((s) => s.id);
  const session = useWatch((s) => s.session);
  const { expecting, lines, error } = useDrill();
  const [name, setName] = useState("what I did");
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState("");
  const navigate = useNavigate();
  useEffect(() => {
    beginDrill(id);
    return () => useDrill.setState({ expecting: false });
  }, [id]);
  if (!session?.seed)
    return (
      <p className="px-4 py-2 text-muted">
        This session was opened without a seed, so that nobody can foretell its dice; nothing that is done in it can be
        done again. Open one as an exercise to record a drill.
      </p>
    );
  const write = async () => {
    const written = await api.drillOf(id, name);
    setText(written.text);
    return written.text;
  };
  const guard = (p: Promise<unknown>) =>
    p.then(
      () => setWrong(""),
      (e) => setWrong(message(e)),
    );
  const run = async () => {
    const drills = { "recorded.drill": await write() };
    const trial = await api.startTrial(session.contract, session.version, { what: "drills", drills });
    void navigate(`/trials/${trial.id}`);
  };
  return (
    <div className="flex h-full min-h-0">
      <div className="flex w-80 shrink-0 flex-col gap-2 border-r border-line p-3">
        <p className="text-xs text-muted">
          Everything that clients have done since the session began is recorded. Press cells of the sheet to expect what
          stands in them.
        </p>
        <button
          className="button self-start aria-pressed:bg-act/10"
          aria-pressed={expecting}
          onClick={() => useDrill.setState({ expecting: !expecting })}
        >
          {expecting ? "Stop expecting cells" : "Expect cells that I press"}
        </button>
        <label className="text-xs">
          Name{" "}
          <input className="small w-48 px-2" value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
        </label>
        <div className="flex gap-2">
          <button className="button" onClick={() => void guard(write())}>
            Show the drill
          </button>
          <button className="button" onClick={() => void guard(run())}>
            Run it
          </button>
        </div>
        {(error || wrong) && (
          <p role="alert" className="text-xs text-bad">
            {error || wrong}
          </p>
        )}
      </div>
      <div className="min-w-0 flex-1 overflow-auto p-3">
        {text ? (
          <>
            <div className="flex gap-3 text-xs">
              <span className="font-semibold">{name}</span>
              <button className="link" onClick={() => void navigator.clipboard.writeText(text)}>
                Copy
              </button>
              <a
                className="link"
                download={`${session.contract}.drill`}
                href={`data:text/plain;charset=utf-8,${encodeURIComponent(text)}`}
              >
                Save
              </a>
              <button className="link" onClick={() => setText("")}>
                Back to what is expected
              </button>
            </div>
            <pre className="value" aria-label="Text of the drill">
              {text}
            </pre>
          </>
        ) : lines.length === 0 ? (
          <p className="text-muted">Nothing is expected yet but what the server holds at the end.</p>
        ) : (
          <ol className="value" aria-label="What the drill expects">
            {lines.map((l, i) => (
              <li key={i}>
                <span className="inline-block w-16 pr-3 text-right text-muted">{l.tick}</span>
                {l.line}
              </li>
            ))}
          </ol>
        )}
      </div>
    </div>
  );
}
