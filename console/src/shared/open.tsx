// Opening a session: which contract and version, with which settings, and whether what is done can become a drill.

import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { draftFrom, valueOf, type Draft } from "../session/draft";
import { Field } from "../session/fields";
import { api, message, type Setting, type Version } from "./api";
import { Window } from "./window";

export function OpenSession({ contract, version }: { contract?: string; version?: number }) {
  const navigate = useNavigate();
  const [isOpen, setOpen] = useState(false);
  const [contracts, setContracts] = useState<Version[]>([]);
  const [chosen, setPicked] = useState("");
  const picked = contract ?? chosen;
  const [settings, setSettings] = useState<Setting[]>([]);
  const [drafts, setDrafts] = useState<Record<string, Draft>>({});
  const [exercise, setExercise] = useState(true);
  const [error, setError] = useState("");
  useEffect(() => {
    if (!isOpen || contract) return;
    api.contracts().then(
      (list) => {
        setContracts(list);
        setPicked((before) => before || (list[0]?.contract ?? ""));
      },
      (e) => setError(message(e)),
    );
  }, [isOpen, contract]);
  useEffect(() => {
    if (!isOpen || !picked) return;
    let gone = false;
    api.version(picked, version ?? 0).then(
      (v) => {
        if (gone) return;
        setSettings(v.settings ?? []);
        setDrafts({});
      },
      (e) => !gone && setError(message(e)),
    );
    return () => {
      gone = true;
    };
  }, [isOpen, picked, version]);
  const open = () => {
    const given = Object.fromEntries(
      settings.flatMap((s) => {
        const draft = drafts[s.name];
        return draft === undefined ? [] : [[s.name, valueOf(s.type, draft)]];
      }),
    );
    const seed = exercise ? 1 + Math.floor(Math.random() * 1e9) : 0;
    api.open(picked, version ?? 0, seed, given).then(
      (s) => navigate(`/sessions/${s.id}`),
      (e) => setError(message(e)),
    );
  };
  return (
    <Dialog.Root
      open={isOpen}
      onOpenChange={(now) => {
        setOpen(now);
        setError("");
      }}
    >
      <Dialog.Trigger className="button main">Open session</Dialog.Trigger>
      <Window title="Open session" error={error} action="Open" disabled={!picked} onSubmit={open}>
        {contract ? (
          <p>
            Of {contract}, {version ? `version ${version}` : "the newest version"}
          </p>
        ) : (
          <label className="block">
            Contract
            <select className="field" value={picked} onChange={(e) => setPicked(e.target.value)}>
              {contracts.map((c) => (
                <option key={c.contract} value={c.contract}>
                  {c.contract}, version {c.version}
                </option>
              ))}
            </select>
          </label>
        )}
        {!contract && contracts.length === 0 && !error && (
          <p className="text-muted">No contract is published yet: publish one under Contracts.</p>
        )}
        {settings.map((s) => (
          <Field
            key={s.name}
            label={s.name}
            type={s.type}
            draft={drafts[s.name] ?? draftFrom(s.type, s.default)}
            onChange={(d) => setDrafts({ ...drafts, [s.name]: d })}
          />
        ))}
        <label className="flex items-start gap-2">
          <input type="checkbox" className="mt-1" checked={exercise} onChange={(e) => setExercise(e.target.checked)} />
          <span>
            An exercise: what is done can become a drill
            <span className="block text-xs text-muted">
              Its dice come from a seed, which whoever knows it can foretell.
            </span>
          </span>
        </label>
      </Window>
    </Dialog.Root>
  );
}
