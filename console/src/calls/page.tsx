// Every call of the HTTP API, read from the document that programs are made from.

import { useEffect, useState } from "react";
import { useParams, Link } from "react-router";
import { api, message } from "../shared/api";
import { Bar } from "../shared/bar";
import { callsOf, kindOf, named, schemaOf, within, type ApiDocument, type Call, type Schema } from "./document";

export default function CallsPage() {
  const { name } = useParams();
  const [doc, setDoc] = useState<ApiDocument>();
  const [error, setError] = useState("");
  const [filter, setFilter] = useState("");
  useEffect(() => {
    document.title = "Calls of the API · Kamerad";
    api.document().then(setDoc, (e) => setError(message(e)));
  }, []);
  if (!doc) {
    return (
      <div className="flex h-full flex-col">
        <Bar />
        <p role={error ? "alert" : undefined} className={error ? "p-4 text-bad" : "p-4 text-muted"}>
          {error || "Reading…"}
        </p>
      </div>
    );
  }
  const all = callsOf(doc);
  const wanted = filter.toLowerCase();
  const shown = all.filter((c) => `${c.method} ${c.path} ${c.name} ${c.words}`.toLowerCase().includes(wanted));
  const chosen = all.find((c) => c.name === name);
  return (
    <div className="flex h-full flex-col">
      <Bar />
      <main className="grid min-h-0 flex-1 grid-cols-[28rem_1fr]">
        <nav aria-label="Calls" className="flex min-h-0 flex-col border-r border-line">
          <div className="border-b border-line p-3">
            <h1 className="mb-2 text-lg font-semibold">Calls of the API</h1>
            <input
              className="field w-full"
              placeholder="Filter by path or by what a call does"
              aria-label="Filter the calls"
              value={filter}
              onChange={(e) => setFilter(e.target.value)}
            />
          </div>
          <div className="flex-1 overflow-auto p-3">
            {[...new Set(shown.map((c) => c.subject))].map((subject) => (
              <section key={subject} aria-label={subject} className="mb-4">
                <h2 className="mb-1 font-semibold">{subject}</h2>
                <ul>
                  {shown
                    .filter((c) => c.subject === subject)
                    .map((c) => (
                      <li key={c.name}>
                        <Link
                          to={`/calls/${c.name}`}
                          aria-current={c.name === name ? "true" : undefined}
                          className="block truncate rounded-sm px-2 py-0.5 font-mono text-xs hover:bg-chosen aria-[current=true]:bg-chosen"
                        >
                          <span className="inline-block w-14 text-muted">{c.method}</span>
                          {c.path.replace(/^\/api/, "")}
                        </Link>
                      </li>
                    ))}
                </ul>
              </section>
            ))}
            {shown.length === 0 && <p className="text-muted">No call is like that.</p>}
          </div>
        </nav>
        <div className="overflow-auto p-4">{chosen ? <One call={chosen} doc={doc} /> : <About doc={doc} />}</div>
      </main>
    </div>
  );
}

// About says what is here when no call is chosen.
function About({ doc }: { doc: ApiDocument }) {
  return (
    <div className="flex max-w-160 flex-col gap-3">
      <p>{doc.info.description}</p>
      <p>
        Choose a call on the left. A program is made from the whole document, in OpenAPI 3.1:{" "}
        <a className="link" href="/api/openapi.json">
          /api/openapi.json
        </a>
        . A contract has one of its own, of what its clients and the server say:{" "}
        <code className="font-mono">kamerad outline FILE --asyncapi</code>.
      </p>
      <p>
        Whoever calls a service that wants tokens sends one as{" "}
        <code className="font-mono">Authorization: Bearer TOKEN</code>;{" "}
        <code className="font-mono">kamerad token create</code> makes it. What goes wrong is answered as problem details
        (RFC 9457).
      </p>
    </div>
  );
}

// One is one call with all that it takes and answers.
function One({ call, doc }: { call: Call; doc: ApiDocument }) {
  const body = call.body && Object.entries(call.body);
  const answer = call.answer && Object.entries(call.answer);
  return (
    <article className="flex flex-col gap-4">
      <header>
        <h2 className="font-mono text-base font-semibold">
          {call.method} {call.path}
        </h2>
        <p className="mt-1">{call.words}</p>
        <p className="text-muted">{call.right || "Everybody may call it."}</p>
      </header>
      {call.parameters.length > 0 && (
        <Part title="In the address">
          <Rows
            rows={call.parameters.map((p) => ({
              name: p.in === "path" ? `{${p.name}}` : `?${p.name}=`,
              schema: { ...p.schema, description: p.description },
              isOptional: !p.required,
            }))}
            doc={doc}
          />
        </Part>
      )}
      {body && (
        <Part title="The body">
          <Content content={body} doc={doc} />
        </Part>
      )}
      <Part title="The answer">
        {answer ? <Content content={answer} doc={doc} /> : <p className="text-muted">Nothing, or a WebSocket.</p>}
      </Part>
      <Part title="By hand">
        <pre className="overflow-auto rounded-sm border border-line bg-raised p-2 font-mono text-xs">
          {`curl -X ${call.method} "${location.origin}${call.path}"${body ? " -d @body.json" : ""}`}
        </pre>
      </Part>
    </article>
  );
}

function Part(props: { title: string; children: React.ReactNode }) {
  return (
    <section aria-label={props.title}>
      <h3 className="mb-1 font-semibold">{props.title}</h3>
      {props.children}
    </section>
  );
}

// Content is what stands in a body, by its media type.
function Content({ content, doc }: { content: [string, { schema?: Schema }][]; doc: ApiDocument }) {
  return content.map(([media, { schema }]) => {
    const fields = schema && within(schema);
    return (
      <div key={media}>
        <p className="text-muted">
          {schema && media === "application/json" ? kindOf(schema) : media}
          {fields && schemaOf(doc, fields).description && `: ${schemaOf(doc, fields).description}`}
        </p>
        {fields && <Fields of={fields} doc={doc} above={[]} />}
      </div>
    );
  });
}

// Fields are those of a named schema. above are the names of those that it stands in, which are not shown again.
function Fields({ of, doc, above }: { of: string; doc: ApiDocument; above: string[] }) {
  const schema = schemaOf(doc, of);
  const rows = Object.entries(schema.properties ?? {}).map(([name, s]) => ({
    name,
    schema: s,
    isOptional: !schema.required?.includes(name),
  }));
  return <Rows rows={rows} doc={doc} above={[...above, of]} />;
}

type Row = { name: string; schema: Schema; isOptional: boolean };

function Rows({ rows, doc, above = [] }: { rows: Row[]; doc: ApiDocument; above?: string[] }) {
  return (
    <ul className="my-1 border-l border-line pl-3">
      {rows.map((r) => {
        const more = within(r.schema);
        const own = named(r.schema);
        const text = r.schema.description ?? (own && schemaOf(doc, own).description);
        const canOpen = more !== undefined && !above.includes(more);
        const line = (
          <span className="grid grid-cols-[12rem_14rem_1fr] gap-3">
            <span className="font-mono text-xs leading-5">
              <span aria-hidden="true" className="inline-block w-4 group-open:rotate-90">
                {canOpen && "▸"}
              </span>
              {r.name}
            </span>
            <span className="text-muted">
              {kindOf(r.schema)}
              {r.isOptional && ", may be left out"}
            </span>
            <span>{text}</span>
          </span>
        );
        return (
          <li key={r.name} className="py-0.5">
            {canOpen ? (
              <details className="group">
                <summary className="cursor-pointer list-none">{line}</summary>
                <Fields of={more} doc={doc} above={above} />
              </details>
            ) : (
              line
            )}
          </li>
        );
      })}
    </ul>
  );
}
