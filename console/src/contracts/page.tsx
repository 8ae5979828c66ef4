// The list of contracts.

import { useCallback, useEffect, useState } from "react";
import { Link } from "react-router";
import { api, message, type Session, type Version } from "../shared/api";
import { Bar } from "../shared/bar";
import { Table } from "../shared/table";
import { Publish, RefusedList, type Refused } from "./publish";

export default function ContractsPage() {
  const [contracts, setContracts] = useState<Version[]>();
  const [sessions, setSessions] = useState<Session[]>([]);
  const [error, setError] = useState("");
  const [refused, setRefused] = useState<Refused>();
  const load = useCallback(() => {
    api.contracts().then(setContracts, (e) => setError(message(e)));
    api.sessions().then(setSessions, () => {});
  }, []);
  useEffect(() => {
    document.title = "Contracts · Kamerad";
    load();
  }, [load]);
  const open = (name: string) => sessions.filter((s) => s.open && s.contract === name).length;
  return (
    <div className="flex h-full flex-col">
      <Bar>
        <Publish main onRefused={setRefused} onDone={load} />
      </Bar>
      <main className="flex-1 overflow-auto p-4">
        <h1 className="mb-3 text-lg font-semibold">Contracts</h1>
        <RefusedList refused={refused} />
        {error && (
          <p role="alert" className="mb-3 text-bad">
            {error}
          </p>
        )}
        {contracts?.length === 0 && (
          <p>
            No contract is published yet. Publish one from files here, or with{" "}
            <code className="value">kamerad contract publish FILE</code>.
          </p>
        )}
        {contracts && contracts.length > 0 && (
          <Table
            label="Contracts"
            rows={contracts}
            keyOf={(c) => c.contract}
            columns={[
              {
                name: "Contract",
                value: (c) => c.contract,
                cell: (c) => (
                  <Link className="link" to={`/contracts/${c.contract}`}>
                    {c.contract}
                  </Link>
                ),
              },
              { name: "Newest version", right: true, value: (c) => c.version, cell: (c) => c.version },
              {
                name: "Open sessions",
                right: true,
                value: (c) => open(c.contract),
                cell: (c) => open(c.contract) || <span className="text-muted">0</span>,
              },
              {
                name: "Published",
                value: (c) => c.published_at,
                cell: (c) => <span className="text-muted">{new Date(c.published_at).toLocaleString()}</span>,
              },
              {
                name: "Fingerprint of the outline",
                cell: (c) => <span className="value text-muted">{c.fingerprint}</span>,
              },
            ]}
          />
        )}
      </main>
    </div>
  );
}
