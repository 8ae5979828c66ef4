// The page of one session: what the server and each client hold, side by side.

import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { api, message, type Outline } from "../shared/api";
import { Drawer } from "./ask";
import { Sheet, differences } from "./sheet";
import { Tray } from "./tray";
import { follow, useWatch } from "./watch";
import { Window } from "../shared/window";

export function SessionPage() {
  const id = Number(useParams().id);
  return <Session key={id} id={id} />;
}

function Session({ id }: { id: number }) {
  const watch = useWatch();
  const [asking, setAsking] = useState<number>();
  const [error, setError] = useState("");
  useEffect(() => {
    document.title = `Session ${id} · Kamerad`;
    return follow(id);
  }, [id]);

  const { phase, outline, session, columns } = watch;
  const client = columns.find((c) => c.number === asking);
  const guard = (p: Promise<unknown>) =>
    p.then(
      () => setError(""),
      (e) => setError(message(e)),
    );
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-12 shrink-0 items-center gap-4 border-b border-line bg-raised px-4 whitespace-nowrap">
        <Link to="/" className="text-base font-semibold">
          Kamerad
        </Link>
        <h1 className="font-semibold">Session {id}</h1>
        {session && (
          <span className="text-muted">
            {session.contract} version {session.version}
          </span>
        )}
        {phase === "live" && (
          <>
            <span className="text-muted">
              tick <span className="value inline-block min-w-12 text-ink">{watch.tick}</span>
            </span>
            <InStep />
          </>
        )}
        <span className="flex-1" />
        {error && (
          <span role="alert" className="truncate text-bad">
            {error}
          </span>
        )}
        {phase === "live" && outline && (
          <>
            <button className="button" onClick={() => guard(api.close(id))}>
              Close session
            </button>
            <OpenClient id={id} outline={outline} taken={columns.map((c) => c.name)} onOpen={setAsking} />
          </>
        )}
      </header>
      {phase !== "live" && <Standing />}
      {(phase === "live" || phase === "lost") && outline && (
        <div className="flex min-h-0 flex-1">
          <main
            className="min-w-0 flex-1 overflow-auto"
            tabIndex={0}
            aria-label="Values of the server and of each client"
          >
            <Sheet
              asking={asking}
              onAsk={(n) => setAsking(n === asking ? undefined : n)}
              onClose={(n) => guard(api.closeClient(id, n))}
            />
          </main>
          {client && (
            <aside
              className="w-80 shrink-0 overflow-auto border-l border-line bg-raised"
              aria-label={`Ask as ${client.name}`}
            >
              <div className="flex items-center justify-between border-b border-line py-2 pr-2 pl-4">
                <h2 className="font-semibold">Ask as {client.name}</h2>
                <button className="plain" aria-label="Close this drawer" onClick={() => setAsking(undefined)}>
                  <X size={16} />
                </button>
              </div>
              <Drawer key={client.number} client={client} />
            </aside>
          )}
        </div>
      )}
      {phase !== "unknown" && phase !== "connecting" && <Tray />}
    </div>
  );
}

function InStep() {
  const watch = useWatch();
  const { different, late } = differences(watch);
  if (different > 0) return <span className="text-bad">≠ {different} different</span>;
  if (late > 0) return <span className="text-warn">+ {late} on the way</span>;
  if (watch.columns.length === 0) return null; // nobody is here who could be
  return <span className="text-good">= all in step</span>;
}

// Standing says what keeps the page from being live.
function Standing() {
  const { phase, note } = useWatch();
  if (phase === "connecting") return <p className="p-4 text-muted">Reading the session…</p>;
  return (
    <p role="status" className="border-b border-line p-4">
      {phase === "closed" && <>This session has closed: {note}. Its decisions are below. </>}
      {phase === "lost" && <span className="text-warn">{note} </span>}
      {phase === "unknown" && <span className="text-bad">{note}. </span>}
      {phase !== "lost" && (
        <Link className="text-act underline" to="/">
          All sessions
        </Link>
      )}
    </p>
  );
}

const suggestions = ["Cleo", "Dov", "Ana", "Bo"];

function OpenClient(props: { id: number; outline: Outline; taken: string[]; onOpen: (n: number) => void }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [role, setRole] = useState("");
  const [error, setError] = useState("");
  const submit = () =>
    api.openClient(props.id, name, role).then(
      (c) => {
        setOpen(false);
        props.onOpen(c.number);
      },
      (e) => setError(message(e)),
    );
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(now) => {
        setOpen(now);
        setError("");
        setName(suggestions.find((n) => !props.taken.includes(n)) ?? `Diver ${props.taken.length + 1}`);
        setRole(props.outline.roles[0] ?? "");
      }}
    >
      <Dialog.Trigger className="button main">Open test client</Dialog.Trigger>
      <Window title="Open test client" error={error} action="Open" disabled={!name} onSubmit={submit}>
        <label className="block">
          Name
          <input className="field" value={name} maxLength={24} onChange={(e) => setName(e.target.value)} />
        </label>
        <label className="block">
          Role
          <select className="field" value={role} onChange={(e) => setRole(e.target.value)}>
            {props.outline.roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </label>
      </Window>
    </Dialog.Root>
  );
}
