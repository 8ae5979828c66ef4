// What a test client does but for requests: it holds what is kept pressed, and writes what it may set itself.

import { useEffect, useRef, useState } from "react";
import { api, message, type Kind, type Outline, type Property } from "../shared/api";
import { draftFrom, draftOf, valueOf, type Draft } from "./draft";
import { Field } from "./fields";
import { useWatch, type Column } from "./watch";

type Own = { kind: Kind; property: Property; entity: number };

// ownOf lists the properties of what belongs to a client that are of a sort.
function ownOf(outline: Outline | undefined, client: Column, has: (p: Property) => boolean): Own[] {
  const things = [...client.copy.things.values()].filter((t) => t.owner === client.number);
  return things.flatMap((t) => {
    const kind = outline?.kinds.find((k) => k.name === t.kind);
    return (kind?.properties ?? []).filter(has).map((property) => ({ kind: kind as Kind, property, entity: t.entity }));
  });
}

export function Holds({ client }: { client: Column }) {
  const { id, outline } = useWatch();
  const [error, setError] = useState("");
  const holds = ownOf(outline, client, (p) => p.lease_ms !== undefined);
  if (holds.length === 0) return <p className="text-muted">{client.name} owns nothing that can be held.</p>;
  return (
    <>
      <p className="text-xs text-muted">
        Held for as long as you press, with the pointer or with the space bar; or kept pressed until you let go.
      </p>
      {holds.map((h) => (
        <Hold key={`${h.entity}/${h.property.name}`} session={id} client={client} own={h} onError={setError} />
      ))}
      {error && (
        <p role="alert" className="text-bad">
          {error}
        </p>
      )}
    </>
  );
}

function Hold(props: { session: number; client: Column; own: Own; onError: (why: string) => void }) {
  const { session, client, own, onError } = props;
  const [kept, setKept] = useState(false);
  const pressed = useRef(false);
  const isHeld = client.copy.things.get(own.entity)?.values[own.property.name] === true;
  const name = `${own.kind.name}.${own.property.name}`;
  const press = (on: boolean) => {
    if (pressed.current === on) return;
    pressed.current = on;
    api.hold(session, client.number, own.entity, name, !on).then(
      () => onError(""),
      (e) => onError(message(e)),
    );
  };
  useEffect(() => {
    const letGo = () => {
      if (pressed.current) void api.hold(session, client.number, own.entity, name, true).catch(() => {});
      pressed.current = false;
    };
    return letGo;
  }, [session, client.number, own.entity, name]);
  return (
    <div className="flex items-center gap-3">
      <button
        type="button"
        className={`button select-none ${isHeld ? "bg-act/10" : ""}`}
        onPointerDown={() => press(true)}
        onPointerUp={() => !kept && press(false)}
        onPointerLeave={() => !kept && press(false)}
        onKeyDown={(e) => {
          if (e.key !== " " && e.key !== "Enter") return;
          e.preventDefault();
          press(true);
        }}
        onKeyUp={() => !kept && press(false)}
        onBlur={() => !kept && press(false)}
      >
        Hold {own.property.name}
      </button>
      <label className="flex items-center gap-1">
        <input
          type="checkbox"
          checked={kept}
          onChange={(e) => {
            setKept(e.target.checked);
            press(e.target.checked);
          }}
        />
        keep pressed
      </label>
      <span className={isHeld ? "text-good" : "text-muted"}>{isHeld ? "held" : "not held"}</span>
    </div>
  );
}

export function Writes({ client }: { client: Column }) {
  const { id, outline } = useWatch();
  const [drafts, setDrafts] = useState<Record<string, Draft>>({});
  const [error, setError] = useState("");
  const writes = ownOf(outline, client, (p) => !!p.set_by && p.lease_ms === undefined);
  const refused = useWatch((s) => s.refused.find((r) => r.client.number === client.number));
  if (writes.length === 0) return <p className="text-muted">{client.name} owns nothing that it may write.</p>;
  return (
    <>
      <p className="text-xs text-muted">
        The server answers a write only when it refuses it. A place can be dragged on the map as well.
      </p>
      {writes.map((w) => {
        const key = `${w.entity}/${w.property.name}`;
        const held = client.copy.things.get(w.entity)?.values[w.property.name];
        const isPlain = held !== undefined && (typeof held !== "object" || Array.isArray(held));
        const draft = drafts[key] ?? (isPlain ? draftFrom(w.property.type, held) : draftOf(w.property.type));
        const name = `${w.kind.name}.${w.property.name}`;
        return (
          <div key={key} className="flex items-end gap-2">
            <div className="min-w-0 flex-1">
              <Field
                label={name}
                type={w.property.type}
                draft={draft}
                onChange={(d) => setDrafts({ ...drafts, [key]: d })}
              />
            </div>
            <button
              type="button"
              className="button"
              aria-label={`Write ${name}`}
              onClick={() =>
                api.write(id, client.number, w.entity, name, valueOf(w.property.type, draft)).then(
                  () => setError(""),
                  (e) => setError(message(e)),
                )
              }
            >
              Write
            </button>
          </div>
        );
      })}
      {refused && (
        <p role="status" className="text-bad">
          ✕ tick {refused.tick}: {refused.type} of {refused.property} {refused.outcome}: {refused.reason}
        </p>
      )}
      {error && (
        <p role="alert" className="text-bad">
          {error}
        </p>
      )}
    </>
  );
}
