// What whoever looks can set, which keys there are, and how the service gets on.

import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, message, type ServiceState } from "../shared/api";
import { signedOut, useMe } from "../shared/me";
import { Bar } from "../shared/bar";
import { setMotion, setTheme, useTheme, type Motion, type Theme } from "../shared/theme";

const keys = [
  ["Ctrl K", "find or do anything"],
  ["1, 2", "the sheet, the map of a session"],
  ["/", "filter the sheet"],
  ["N", "open a test client"],
  ["D", "show only what differs"],
  ["Space", "stop at this moment, and go on live"],
  ["[ ]", "a tick back, a tick on"],
  ["Esc", "close what was opened last"],
] as const;

export default function SettingsPage() {
  const { theme, motion } = useTheme();
  const [service, setService] = useState<ServiceState>();
  const [error, setError] = useState("");
  useEffect(() => {
    document.title = "Settings · Kamerad";
    api.service().then(setService, (e) => setError(message(e)));
  }, []);
  return (
    <div className="flex h-full flex-col">
      <Bar />
      <main className="grid flex-1 auto-rows-min grid-cols-2 gap-8 overflow-auto p-4">
        <h1 className="col-span-2 text-lg font-semibold">Settings</h1>
        <section aria-label="How it looks" className="flex flex-col gap-3">
          <h2 className="text-base font-semibold">How it looks</h2>
          <label className="block w-60">
            Colours
            <select className="field" value={theme} onChange={(e) => setTheme(e.target.value as Theme)}>
              <option value="system">as the system has it</option>
              <option value="light">light</option>
              <option value="dark">dark</option>
            </select>
          </label>
          <label className="block w-60">
            Motion
            <select className="field" value={motion} onChange={(e) => setMotion(e.target.value as Motion)}>
              <option value="system">as the system has it</option>
              <option value="reduced">only what is a change</option>
            </select>
          </label>
          <p className="text-muted">Kept in this browser.</p>
        </section>
        <section aria-label="Keys">
          <h2 className="mb-2 text-base font-semibold">Keys</h2>
          <dl className="grid grid-cols-[6rem_1fr] gap-y-1">
            {keys.map(([key, what]) => (
              <div key={key} className="contents">
                <dt>
                  <kbd className="rounded-sm border border-line px-1 font-mono text-xs">{key}</kbd>
                </dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
        </section>
        <You />
        <section aria-label="The service" className="col-span-2">
          <h2 className="mb-2 text-base font-semibold">The service</h2>
          {error && (
            <p role="alert" className="text-bad">
              {error}
            </p>
          )}
          {service && (
            <dl className="grid grid-cols-[18rem_1fr] gap-y-1">
              <dt className="text-muted">The database</dt>
              <dd>
                {service.held ? (
                  <span className="text-good">✓ known to the database</span>
                ) : (
                  <span className="text-bad">✕ not known to the database</span>
                )}
              </dd>
              <dt className="text-muted">Records that wait to be stored</dt>
              <dd className="value">{service.records_waiting.toLocaleString("en")}</dd>
              <dt className="text-muted">Records that were dropped</dt>
              <dd className="value">{(service.records_dropped + service.refused_dropped).toLocaleString("en")}</dd>
              <dt className="text-muted">Sessions that failed inside</dt>
              <dd className="value">{service.sessions_failed.toLocaleString("en")}</dd>
              <dt className="text-muted">Calls for programs</dt>
              <dd>
                <Link className="link" to="/calls">
                  what there is to call
                </Link>
              </dd>
              <dt className="text-muted">Figures for machines</dt>
              <dd>
                <a className="link" href="/metrics">
                  /metrics
                </a>
              </dd>
            </dl>
          )}
        </section>
      </main>
    </div>
  );
}

const allowed = {
  look: "read all that is not secret",
  play: "look, and play test clients, drills and audits",
  run: "do everything, and see seeds and what no client may see",
} as const;

// You says who looks, and lets them sign out.
function You() {
  const me = useMe((s) => s.me);
  const [error, setError] = useState("");
  if (!me) return null;
  const out = async () => {
    try {
      await api.signOut();
      signedOut("token_missing", "");
    } catch (e) {
      setError(message(e));
    }
  };
  return (
    <section aria-label="Who you are" className="col-span-2">
      <h2 className="mb-2 text-base font-semibold">Who you are</h2>
      {me.open ? (
        <p>
          This service is open: whoever reaches it from this machine may do everything. `kamerad secure` makes what it
          takes to let others in.
        </p>
      ) : (
        <p>
          Signed in by the token <b>{me.name}</b>: you may {allowed[me.right]}.{" "}
          <button className="button ml-2" onClick={() => void out()}>
            Sign out
          </button>
        </p>
      )}
      {error && (
        <p role="alert" className="text-bad">
          {error}
        </p>
      )}
    </section>
  );
}
