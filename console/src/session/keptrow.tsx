// The row of presses that are kept, below the form.

import { Play, X } from "lucide-react";
import { useState } from "react";
import { api, message } from "../shared/api";
import { forget, forgetAll, play, useKept, type Press } from "./kept";
import { useWatch } from "./watch";

export function KeptRow() {
  const { presses } = useKept();
  const [error, setError] = useState("");
  const [playing, setPlaying] = useState(false);
  if (presses.length === 0) return null;
  const press = (p: Press) => {
    const { id, columns } = useWatch.getState();
    const client = columns.find((c) => c.name === p.client && c.test);
    if (!client) throw new Error(`There is no test client ${p.client} to ask as; open one of this name.`);
    return api.ask(id, client.number, p.entity, p.request, p.args);
  };
  const run = async (list: Press[]) => {
    setPlaying(true);
    setError("");
    try {
      await play(list, press);
    } catch (e) {
      setError(message(e));
    } finally {
      setPlaying(false);
    }
  };
  return (
    <section aria-label="Kept presses" className="border-t border-line pt-2">
      <div className="flex items-center gap-3 pb-1 text-xs">
        <h3 className="font-semibold">Kept presses</h3>
        <button type="button" className="link" disabled={playing} onClick={() => void run(presses)}>
          Play all
        </button>
        <button type="button" className="link" onClick={forgetAll}>
          Forget all
        </button>
      </div>
      <ol>
        {presses.map((p, i) => {
          const words = `${p.client} ${p.request}(${p.args.map((a) => JSON.stringify(a)).join(", ")})`;
          return (
            <li key={i} className="flex items-center gap-1">
              <button
                type="button"
                className="plain"
                aria-label={`Play ${words}`}
                disabled={playing}
                onClick={() => void run([p])}
              >
                <Play size={12} />
              </button>
              <span className="value min-w-0 flex-1 truncate" title={words}>
                {words}
              </span>
              {p.after > 0 && <span className="value text-muted">+{p.after} ms</span>}
              <button type="button" className="plain" aria-label={`Forget ${words}`} onClick={() => forget(i)}>
                <X size={12} />
              </button>
            </li>
          );
        })}
      </ol>
      {error && (
        <p role="alert" className="text-bad">
          {error}
        </p>
      )}
    </section>
  );
}
