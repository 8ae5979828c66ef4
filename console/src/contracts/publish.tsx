// Publishing a contract from files.

import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, message, Problem, type Finding } from "../shared/api";
import { Mistakes } from "../shared/mistakes";
import { chosenOf, read } from "./files";

// Publish is a button that publishes what is chosen. What keeps it from that is handed to onRefused.
type PublishProps = { main?: boolean; onRefused: (why: Refused) => void; onDone?: () => void };

export function Publish({ main, onRefused, onDone }: PublishProps) {
  const navigate = useNavigate();
  const input = useRef<HTMLInputElement>(null);
  const publish = async (list: FileList) => {
    try {
      const { file, source, files } = chosenOf(await read(list));
      const made = await api.publish(file, source, files);
      onRefused({ error: "", mistakes: [] });
      onDone?.();
      void navigate(`/contracts/${made.contract}?version=${made.version}${made.fresh ? "" : "&same"}`);
    } catch (e) {
      onRefused({ error: message(e), mistakes: e instanceof Problem ? e.mistakes : [] });
    }
  };
  return (
    <>
      <input
        ref={input}
        type="file"
        multiple
        accept=".kam,.json"
        className="sr-only"
        tabIndex={-1}
        aria-label="Files of a contract"
        onChange={(e) => {
          if (e.target.files?.length) void publish(e.target.files);
          e.target.value = "";
        }}
      />
      <button className={main ? "button main" : "button"} onClick={() => input.current?.click()}>
        Publish from files
      </button>
    </>
  );
}

export type Refused = { error: string; mistakes: Finding[] };

export function RefusedList({ refused }: { refused: Refused | undefined }) {
  const [closed, setClosed] = useState<Refused>();
  if (!refused?.error || closed === refused) return null;
  return (
    <section role="alert" aria-label="Not published" className="mb-4 border-l-2 border-bad bg-raised p-3">
      <p className="mb-2 font-semibold text-bad">{refused.error}</p>
      <Mistakes list={refused.mistakes} />
      <button className="link mt-2" onClick={() => setClosed(refused)}>
        Close
      </button>
    </section>
  );
}
