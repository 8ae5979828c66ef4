// The page of one session: what the server and each client hold, side by side.

import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import { useEffect, useMemo, useState, type ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, message, type Outline } from "../shared/api";
import { Bar } from "../shared/bar";
import { Drawer } from "./ask";
import { EntityDrawer, titleOf } from "./entity";
import { Filters } from "./filters";
import { useKeys } from "./keys";
import { Map } from "./map";
import { lister, paramsOf, viewOf, type View } from "./rows";
import { Sheet } from "./sheet";
import { Strip } from "./strip";
import { Tray } from "./tray";
import { follow, useWatch } from "./watch";
import { Window } from "../shared/window";

export function SessionPage() {
  const id = Number(useParams().id);
  return <Session key={id} id={id} />;
}

function Session({ id }: { id: number }) {
  useEffect(() => {
    document.title = `Session ${id} · Kamerad`;
    return follow(id);
  }, [id]);
  const session = useWatch((s) => s.session);
  return (
    <SessionView
      id={id}
      title={
        <>
          <h1 className="font-semibold">Session {id}</h1>
          {session && (
            <Link className="text-muted hover:text-ink" to={`/contracts/${session.contract}?version=${session.version}`}>
              {session.contract} {session.version}
            </Link>
          )}
        </>
      }
    />
  );
}

// SessionView shows what is watched: a session, or without a number a drill that was played.
export function SessionView({ id = 0, title, told }: { id?: number; title: ReactNode; told?: ReactNode }) {
  const watch = useWatch();
  const [asking, setAsking] = useState<number>();
  const [params, setParams] = useSearchParams();
  const view = useMemo(() => viewOf(params), [params]);
  const setView = (next: View) => setParams(paramsOf(next, params), { replace: true });
  const selected = params.get("at") ?? ""; // the row that the drawer is about, as entity/property
  const put = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
    if (name === "at") setAsking(undefined);
  };
  const select = (key: string) => put("at", key === selected ? "" : key);
  const face = params.get("face") === "map" ? "map" : "sheet";
  const show = (next: Face) => put("face", next === "map" ? "map" : "");
  useKeys({ "1": () => show("sheet"), "2": () => show("map") });
  const [error, setError] = useState("");
  const { phase, outline, columns, server } = watch;
  const [list] = useState(lister);
  const rows = list(watch, view);
  const client = columns.find((c) => c.number === asking);
  const guard = (p: Promise<unknown>) =>
    p.then(
      () => setError(""),
      (e) => setError(message(e)),
    );
  return (
    <div className="flex h-full flex-col">
      <Bar title={title}>
        {error && (
          <span role="alert" className="truncate text-bad">
            {error}
          </span>
        )}
        {phase === "live" && id > 0 && outline && (
          <>
            <button className="button" onClick={() => guard(api.close(id))}>
              Close session
            </button>
            <OpenClient id={id} outline={outline} taken={columns.map((c) => c.name)} onOpen={setAsking} />
          </>
        )}
      </Bar>
      {told}
      {phase !== "live" && <Standing />}
      {phase === "live" && <Strip face={face} onFace={show} />}
      {(phase === "live" || phase === "lost") && outline && (
        <div className="flex min-h-0 flex-1">
          <main className="flex min-w-0 flex-1 flex-col">
            {face === "map" && (
              <Map
                as={Number(params.get("as")) || 0}
                selected={selected ? entityOf(selected) : 0}
                onAs={(n) => put("as", n ? String(n) : "")}
                onSelect={(entity) => put("at", entity ? `${entity}/pos` : "")}
              />
            )}
            {face === "sheet" && <Filters view={view} rows={rows.length} onChange={setView} />}
            {face === "sheet" && (
              <Sheet
                rows={rows}
                asking={asking}
                selected={selected}
                onAsk={(n) => setAsking(n === asking ? undefined : n)}
                onClose={(n) => guard(api.closeClient(id, n))}
                onSelect={select}
                onFold={(kind) => setView({ ...view, folded: toggled(view.folded, kind) })}
                onPin={(key) => setView({ ...view, pinned: toggled(view.pinned, key) })}
              />
            )}
            {columns.length === 0 && id > 0 && (
              <p className="p-4 text-muted">
                No client is here. Open a test client, or join with kamerad join {id} --as Ana.
              </p>
            )}
            {face === "sheet" && rows.length === 0 && server.things.size > 0 && (
              <p className="p-4 text-muted">
                No row is as asked for.{" "}
                <button className="text-act underline" onClick={() => setView(viewOf(new URLSearchParams()))}>
                  Show all
                </button>
              </p>
            )}
          </main>
          {client && (
            <Aside title={`Ask as ${client.name}`} onClose={() => setAsking(undefined)}>
              <Drawer key={client.number} client={client} />
            </Aside>
          )}
          {!client && selected && (
            <Aside title={titleOf(watch, entityOf(selected))} onClose={() => select("")}>
              <EntityDrawer entity={entityOf(selected)} property={selected.slice(selected.indexOf("/") + 1)} />
            </Aside>
          )}
        </div>
      )}
      {phase !== "unknown" && phase !== "connecting" && <Tray />}
    </div>
  );
}

export type Face = "sheet" | "map";

// Aside is the drawer: it holds what concerns one thing.
function Aside(props: { title: string; onClose: () => void; children: ReactNode }) {
  return (
    <aside className="w-80 shrink-0 overflow-auto border-l border-line bg-raised" aria-label={props.title}>
      <div className="flex items-center justify-between border-b border-line py-2 pr-2 pl-4">
        <h2 className="font-semibold">{props.title}</h2>
        <button className="plain" aria-label="Close this drawer" onClick={props.onClose}>
          <X size={16} />
        </button>
      </div>
      {props.children}
    </aside>
  );
}

// entityOf gives the entity of a row's key.
function entityOf(key: string): number {
  return Number(key.slice(0, key.indexOf("/")));
}

function toggled<T>(set: Set<T>, item: T): Set<T> {
  const next = new Set(set);
  if (!next.delete(item)) next.add(item);
  return next;
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

// freeNames gives names that nobody has.
function freeNames(taken: string[], count: number): string[] {
  const out: string[] = [];
  for (let i = 0; out.length < count; i++) {
    const name = suggestions[i] ?? `Diver ${i + 1}`;
    if (!taken.includes(name)) out.push(name);
  }
  return out;
}

function OpenClient(props: { id: number; outline: Outline; taken: string[]; onOpen: (n: number) => void }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [role, setRole] = useState("");
  const [count, setCount] = useState(1);
  const [error, setError] = useState("");
  const submit = async () => {
    try {
      const names = [name, ...freeNames([...props.taken, name], count - 1)];
      let first = 0;
      for (const each of names) {
        const client = await api.openClient(props.id, each, role);
        first ||= client.number;
      }
      setOpen(false);
      props.onOpen(first);
    } catch (e) {
      setError(message(e));
    }
  };
  return (
    <Dialog.Root
      open={open}
      onOpenChange={(now) => {
        setOpen(now);
        setError("");
        setName(freeNames(props.taken, 1)[0] as string);
        setCount(1);
        setRole(props.outline.roles[0] ?? "");
      }}
    >
      <Dialog.Trigger className="button main">Open test client</Dialog.Trigger>
      <Window title="Open test client" error={error} action="Open" disabled={!name} onSubmit={() => void submit()}>
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
        <label className="block">
          How many like this
          <input
            className="field"
            type="number"
            min={1}
            max={8}
            value={count}
            onChange={(e) => setCount(Math.min(Math.max(Math.round(Number(e.target.value)) || 1, 1), 8))}
          />
        </label>
      </Window>
    </Dialog.Root>
  );
}
