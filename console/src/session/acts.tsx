// What operators have done to the session, newest first.

import { useEffect, useState } from "react";
import { api, message, type Act } from "../shared/api";
import { useWatch } from "./watch";

const every = 3000; // ms between two looks

export default function Acts() {
  const id = useWatch((s) => s.id);
  const [acts, setActs] = useState<Act[]>();
  const [error, setError] = useState("");
  useEffect(() => {
    const look = () => api.acts(id).then(setActs, (e) => setError(message(e)));
    void look();
    const timer = setInterval(() => void look(), every);
    return () => clearInterval(timer);
  }, [id]);
  if (error)
    return (
      <p role="alert" className="px-4 py-2 text-bad">
        {error}
      </p>
    );
  if (acts?.length === 0) return <p className="px-4 py-2 text-muted">Nobody has done anything to this session.</p>;
  return (
    <table className="w-full border-collapse" aria-label="What operators have done">
      <tbody>
        {acts?.map((a, i) => (
          <tr key={acts.length - i} className="border-b border-line">
            <td className="value w-48 px-4 whitespace-nowrap text-muted">{new Date(a.at).toLocaleString()}</td>
            <td className="w-48 px-3 whitespace-nowrap">{a.operator}</td>
            <td className="px-3">{a.act}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
