// The page of one session: what the server and each client hold, side by side.

import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import { useEffect, useMemo, useState, type ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { create } from "zustand";
import { api, message, type Outline } from "../shared/api";
import { Bar } from "../shared/bar";
import { useMay } from "../shared/me";
import { useOffer, type Command } from "../shared/commands";
import { Drawer } from "./ask";
import { EntityDrawer, titleOf } from "./entity";
import { Filters } from "./filters";
import { press, useKeys } from "./keys";
import { Map } from "./map";
import { usePick } from "./pick";
import { lister, paramsOf, viewOf, type View } from "./rows";
import { Sheet } from "./sheet";
import { Strip } from "./strip";
import { Tray } from "./tray";
import { openTray } from "./traystate";
import { follow, toggleMoment, useWatch } from "./watch";
import { Window } from "../shared/window";

export function SessionPage() {
  const id = Number(useParams().id);
  return <Session key={id} id={id} />;
}

function Session({ id }: { id: number }) {
  useEffect(() => {
    document.title = `Session ${id} · Kamerad`;
    openTray("line");
    setAsking(undefined);
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
            <Link
              className="text-muted hover:text-ink"
              to={`/contracts/${session.contract}?version=${session.version}`}
            >
              {session.contract} {session.version}
            </Link>
          )}
          <Link className="hidden text-muted hover:text-ink xl:inline" to={`/recordings/${id}`}>
            Recording
          </Link>
        </>
      }
    />
  );
}

// useAsking holds which test client is played.
const useAsking = create<{ client?: number }>(() => ({}));

const setAsking = (client?: number): void => useAsking.setState({ client });

// SessionView shows what is watched: a session, or without a number a drill that was played.
export function SessionView({ id = 0, title, told }: { id?: number; title: ReactNode; told?: ReactNode }) {
  const watch = useWatch();
  const asking = useAsking((s) => s.client);
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
  const wanted = usePick((s) => s.wanted);
  const face = wanted || params.get("face") === "map" ? "map" : "sheet";
  const show = (next: Face) => put("face", next === "map" ? "map" : "");
  const differs = () => {
    const next = paramsOf({ ...view, only: view.only === "differs" ? "" : "differs" }, params);
    next.delete("face");
    setParams(next, { replace: true });
  };
  const [opening, setOpening] = useState(false);
  const isPlayable = id > 0 && watch.phase === "live";
  useKeys({
    "1": () => show("sheet"),
    "2": () => show("map"),
    "/": () => document.getElementById("filter")?.focus(),
    n: () => setOpening(isPlayable),
    d: differs,
    Escape: () => (asking ? setAsking(undefined) : put("at", "")),
  });
  useOffer(useSessionCommands(id, isPlayable));
  const [error, setError] = useState("");
  const { phase, outline, columns, server } = watch;
  const [list] = useState(lister);
  const rows = list(watch, view);
  const client = columns.find((c) => c.number === asking);
  const mayPlay = useMay("play");
  const mayRun = useMay("run");
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
            {mayRun && (
              <button className="button" onClick={() => guard(api.close(id))}>
                Close session
              </button>
            )}
            {mayPlay && (
              <OpenClient
                id={id}
                outline={outline}
                taken={columns.map((c) => c.name)}
                isOpen={opening}
                onToggle={setOpening}
                onOpen={setAsking}
              />
            )}
          </>
        )}
      </Bar>
      {told}
      {phase !== "live" && <Standing />}
      {phase === "live" && <Strip face={face} onFace={show} onDiffers={differs} />}
      {(phase === "live" || phase === "lost") && outline && (
        <div className="flex min-h-0 flex-1">
          <main className="flex min-w-0 flex-1 flex-col">
            {face === "map" && (
              <Map
                as={Number(params.get("as")) || 0}
                selected={selected ? entityOf(selected) : 0}
                hands={client}
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
  const { id, phase, note } = useWatch();
  if (phase === "connecting") return <p className="p-4 text-muted">Reading the session…</p>;
  return (
    <p role="status" className="border-b border-line p-4">
      {phase === "closed" && (
        <>
          This session has closed: {note}. Its decisions are below.{" "}
          <Link className="text-act underline" to={`/recordings/${id}`}>
            Look at its recording
          </Link>{" "}
        </>
      )}
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

// useSessionCommands lists what the palette offers on a session's page. The list is the same one until clients change.
function useSessionCommands(id: number, isPlayable: boolean): Command[] {
  const clients = useWatch((s) => s.columns.map((c) => `${c.number} ${c.test ? "test" : ""} ${c.name}`).join("\n"));
  return useMemo(() => {
    const group = id > 0 ? `Session ${id}` : "This run";
    const byKey = (name: string, key: string): Command => ({ name, group, key, run: () => press(key) });
    const out: Command[] = [
      byKey("Show the sheet", "1"),
      byKey("Show the map", "2"),
      byKey("Show only what differs", "d"),
      byKey("Filter the sheet", "/"),
      { name: "Time line", group, run: () => openTray("line") },
      { name: "Traffic", group, run: () => openTray("traffic") },
      { name: "Faults", group, run: () => openTray("faults") },
    ];
    if (!isPlayable) return out;
    out.push(
      byKey("Open test client", "n"),
      { name: "Record a drill", group, run: () => openTray("drill") },
      { name: "Stop here, or go on live", group, key: "Space", run: toggleMoment },
    );
    for (const line of clients.split("\n")) {
      const [, number, name] = /^(\d+) test (.*)$/.exec(line) ?? [];
      if (number) out.push({ name: `Ask as ${name}`, group, run: () => setAsking(Number(number)) });
    }
    return out;
  }, [isPlayable, id, clients]);
}

type OpenClientProps = {
  id: number;
  outline: Outline;
  taken: string[];
  isOpen: boolean;
  onToggle: (open: boolean) => void;
  onOpen: (n: number) => void;
};

function OpenClient(props: OpenClientProps) {
  const [name, setName] = useState("");
  const [role, setRole] = useState("");
  const [count, setCount] = useState(1);
  const [error, setError] = useState("");
  const [wasOpen, setWasOpen] = useState(false);
  if (props.isOpen !== wasOpen) {
    setWasOpen(props.isOpen);
    setError("");
    setName(freeNames(props.taken, 1)[0] as string);
    setCount(1);
    setRole(props.outline.roles[0] ?? "");
  }
  const submit = async () => {
    try {
      const names = [name, ...freeNames([...props.taken, name], count - 1)];
      let first = 0;
      for (const each of names) {
        const client = await api.openClient(props.id, each, role);
        first ||= client.number;
      }
      props.onToggle(false);
      props.onOpen(first);
    } catch (e) {
      setError(message(e));
    }
  };
  return (
    <Dialog.Root open={props.isOpen} onOpenChange={props.onToggle}>
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
