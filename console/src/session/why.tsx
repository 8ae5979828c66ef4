// Why a property has its value: the chain of causes, and when each client got it. The service plays the recording again
// for that, so it is asked only when somebody wants to know.

import { useEffect, useRef, useState } from "react";
import { create } from "zustand";
import { api, message, type Reason, type ReasonLink } from "../shared/api";
import { useWatch } from "./watch";

// useRecording holds which recording is played into the page; 0 for none.
export const useRecording = create<{ id: number }>(() => ({ id: 0 }));

export function Why({ entity, property }: { entity: number; property: string }) {
  const live = useWatch((s) => s.id);
  const id = useRecording((s) => s.id) || live;
  const [reason, setReason] = useState<Reason>();
  const [note, setNote] = useState("");
  const told = useRef<HTMLDivElement>(null);
  useEffect(() => {
    told.current?.scrollIntoView({ block: "nearest" });
  }, [reason]);
  if (!id) return null; // a drill that was played: nothing is recorded of it
  const ask = async () => {
    const { moment, tick, id: live } = useWatch.getState();
    setNote("Asking the recording…");
    try {
      setReason(await api.why(id, `#${entity}.${property}`, moment || !live ? tick : 0));
      setNote("");
    } catch (e) {
      setReason(undefined);
      setNote(message(e));
    }
  };
  return (
    <div className="text-xs">
      <button className="link" onClick={() => void ask()} aria-label={`Why ${property}?`}>
        {reason ? "Why, once more?" : "Why?"}
      </button>
      {reason && (
        <button className="link ml-3" onClick={() => setReason(undefined)}>
          Close
        </button>
      )}
      <span role="status" className="ml-2 text-muted">
        {note}
      </span>
      {reason && (
        <div ref={told}>
          <Chain reason={reason} />
        </div>
      )}
    </div>
  );
}

const ends = {
  input: "That came from outside: nothing in the session led to it.",
  timer: "That came by time alone.",
  start: "That is how the session began.",
};

function Chain({ reason }: { reason: Reason }) {
  const last = reason.chain.at(-1)?.end;
  return (
    <div className="mt-1 border-l-2 border-act pl-2">
      <p className="text-muted">
        at tick <span className="value">{reason.at}</span>,{" "}
        {reason.changed ? (
          <>
            since tick <span className="value">{reason.changed}</span>
          </>
        ) : (
          "since the session began"
        )}
      </p>
      <ol>
        {reason.chain.map((l, i) => (
          <li key={i} className="mt-1">
            <Step link={l} />
          </li>
        ))}
      </ol>
      {last && <p className="mt-1">{ends[last]}</p>}
      <ul className="mt-1">
        {reason.deliveries.map((d) => (
          <li key={d.client}>
            {d.name}{" "}
            {d.sent ? (
              <>
                was sent it in tick <span className="value">{d.sent}</span>
                {d.confirmed ? (
                  <>
                    {" "}
                    and had it by <span className="value">{d.confirmed}</span>
                  </>
                ) : (
                  ", and has not said that it has it"
                )}
              </>
            ) : (
              <span className="text-muted">was not: {d.why}</span>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

function Step({ link }: { link: ReasonLink }) {
  return (
    <>
      <div>
        {link.tick > 0 && <span className="value text-muted">{link.tick} </span>}
        {link.words}
      </div>
      {(link.changes ?? []).map((c) => (
        <div key={c.of} className="pl-3">
          {c.of}: <span className="value">{c.old_text ?? "new"}</span> → <span className="value">{c.new_text}</span>
        </div>
      ))}
      {link.line !== undefined && (
        <div className="pl-3 text-muted">
          {link.through.join(" › ")}, line <span className="value">{link.line}</span> of {link.file}
        </div>
      )}
      {(link.checks ?? []).map((c) => (
        <div key={c.text} className="pl-3">
          {c.result === "passed" ? "✓" : "✗"} <code>{c.text}</code>{" "}
          <span className="text-muted">
            {Object.entries(c.values)
              .map(([name, value]) => `${name} was ${value}`)
              .join(", ")}
          </span>
        </div>
      ))}
    </>
  );
}
