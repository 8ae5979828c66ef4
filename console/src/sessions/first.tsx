// The first visit: three steps that lead to four copies side by side, done with one press.

import { X } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, message, type Session } from "../shared/api";

const seenKey = "kamerad.first";
const wanted = 4; // copies that stand side by side
const names = ["Cleo", "Dov", "Ana", "Bo", "Eda", "Fio"];

export function First({ sessions }: { sessions: Session[] }) {
  const navigate = useNavigate();
  const [isSeen, setSeen] = useState(() => localStorage.getItem(seenKey) === "yes");
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState("");
  const open = sessions.filter((s) => s.open);
  const session = open.toSorted((a, b) => b.clients.length - a.clients.length || b.id - a.id)[0];
  if (isSeen || !session) return null;
  const close = () => {
    localStorage.setItem(seenKey, "yes");
    setSeen(true);
  };
  const missing = Math.max(wanted - session.clients.length, 0);
  const show = async () => {
    setBusy(true);
    setError("");
    try {
      const taken = session.clients.map((c) => c.name);
      for (const name of names.filter((n) => !taken.includes(n)).slice(0, missing))
        await api.openClient(session.id, name, "");
      close();
      void navigate(`/sessions/${session.id}`);
    } catch (e) {
      setError(message(e));
      setBusy(false);
    }
  };
  return (
    <section aria-label="First steps" className="relative mb-6 border border-line bg-raised p-4">
      <h2 className="text-base font-semibold">See who holds what, in three steps</h2>
      <ol className="my-2 list-inside list-decimal">
        <li>
          Session {session.id} of {session.contract} runs, with{" "}
          {session.clients.length === 0 ? "nobody in it" : session.clients.map((c) => c.name).join(" and ")}.
        </li>
        <li>
          {missing > 0
            ? `${missing === 1 ? "One test client joins" : `${missing} test clients join`}, which you play.`
            : "You may open test clients, which you play."}
        </li>
        <li>The server and {wanted} copies stand side by side: ask as one of them, and see what each gets of it.</li>
      </ol>
      <button className="button main" disabled={busy} onClick={() => void show()}>
        Compare {wanted} copies
      </button>
      {error && (
        <p role="alert" className="mt-2 text-bad">
          {error}
        </p>
      )}
      <button className="plain absolute top-2 right-2" aria-label="Close the first steps" onClick={close}>
        <X size={16} />
      </button>
    </section>
  );
}
