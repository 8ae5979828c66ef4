// One entity whole: each of its properties with what it is, who has it, and how each copy stands.

import { useEffect, useRef } from "react";
import type { Property } from "../shared/api";
import { Mark, Sign } from "../shared/signs";
import { format, nameOf, ownerName, present, signOf, type Thing } from "./copy";
import { differencesOf, itemsOf } from "./items";
import { keep, useWatch, type State } from "./watch";
import { Why } from "./why";

export function EntityDrawer({ entity, property }: { entity: number; property: string }) {
  const watch = useWatch();
  const { outline, server } = watch;
  const chosen = useRef<HTMLLIElement>(null);
  useEffect(() => {
    chosen.current?.scrollIntoView({ block: "nearest" }); // once, and not with each tick: the reader may move on
  }, [entity, property]);
  const thing = server.things.get(entity);
  const kind = outline?.kinds.find((k) => k.name === thing?.kind);
  if (!outline || !thing || !kind)
    return <p className="p-4 text-muted">The server does not have this entity any more.</p>;
  const who = kind.shared ? "one for the session" : kind.per ? `one for each ${kind.per}` : "spawned by the contract";
  return (
    <div className="p-4">
      <p className="text-muted">
        {kind.name}, {who}, number <span className="value">{entity}</span>
      </p>
      <p className="mt-1">
        owner <span className="text-note">{ownerName(server.clients, thing)}</span>, known to {kind.to}
      </p>
      <ul className="mt-3">
        {kind.properties.map((p) => (
          <li
            key={p.name}
            className={`border-t border-line py-2 ${p.name === property ? "-mx-4 bg-act/10 px-4" : ""}`}
            ref={p.name === property ? chosen : undefined}
          >
            <PropertyOf watch={watch} thing={thing} property={p} />
          </li>
        ))}
      </ul>
    </div>
  );
}

function PropertyOf({ watch, thing, property }: { watch: State; thing: Thing; property: Property }) {
  const { outline, server, columns, tick } = watch;
  if (!outline) return null;
  const value = present(outline, server, thing, property, tick);
  const changed = watch.changed.get(thing.entity)?.get(property.name);
  const cause = changed !== undefined ? causeOf(watch, thing, property, changed) : "";
  const apart = columns.filter((c) => c.apart.get(thing.entity)?.has(property.name));
  const has = columns.filter((c) => {
    const held = c.copy.things.get(thing.entity);
    return held !== undefined && property.name in held.values;
  });
  return (
    <>
      <div className="flex items-baseline gap-2">
        <span className="font-semibold">{property.name}</span>
        <span className="value min-w-0 flex-1 truncate text-right" title={format(property.type, value)}>
          {format(property.type, value)}
        </span>
      </div>
      <div className="text-xs text-muted">
        {wordsOf(property)}, to {property.to}
      </div>
      <div className="text-xs text-muted">
        {has.length === 0
          ? "no client has it"
          : `${has.map((c) => c.name).join(", ")} ${has.length === 1 ? "has" : "have"} it`}
        {changed !== undefined && (
          <>
            , changed in tick <span className="value">{changed}</span>
            {cause && <> by {cause}</>}
          </>
        )}
      </div>
      <Why entity={thing.entity} property={property.name} />
      {itemsOf(property.type, value).map((item) => (
        <div key={item.place} className="flex gap-2 pl-3 text-xs">
          <span className="value text-muted">{item.place}</span>
          <span className="value">{item.text}</span>
        </div>
      ))}
      {apart.map((c) => {
        const held = c.copy.things.get(thing.entity);
        const there = held && property.name in held.values;
        const theirs = there ? present(outline, c.copy, held, property, tick) : undefined;
        const places = there ? differencesOf(property.type, value, theirs) : [];
        const standing = c.apart.get(thing.entity)?.get(property.name) ?? "=";
        return (
          <div key={c.number} className="mt-1 text-xs">
            <Mark number={c.number} /> {c.name} <Sign {...signOf(standing, c, tick)} />{" "}
            <span className="value">{there ? format(property.type, theirs) : "does not have it"}</span>
            {places.map((d) => (
              <div key={d.place} className="pl-6">
                <span className="value text-muted">{d.place}</span> server{" "}
                <span className="value">{d.server || "–"}</span>, {c.name}{" "}
                <span className="value">{d.client || "–"}</span>
              </div>
            ))}
          </div>
        );
      })}
    </>
  );
}

// wordsOf says what a property is and who writes it.
function wordsOf(p: Property): string {
  const t = p.type;
  const step = (t.unit ?? 1) / (t.per ?? 1);
  const range = t.low !== undefined || t.high !== undefined ? ` ${(t.low ?? 0) * step}..${(t.high ?? 0) * step}` : "";
  const type = t.form === "enum" ? (t.enum?.name ?? "enum") : t.form === "record" ? (t.name ?? "record") : t.form;
  const writer = p.computed
    ? "computed"
    : p.lease_ms
      ? "held by its owner"
      : p.set_by
        ? `set by ${p.set_by}`
        : p.follows
          ? `follows ${p.follows}`
          : "set by the server";
  const how = [p.clamped && "clamped", p.once && "once", p.loose && "loose", p.keep && "keep"].filter(Boolean);
  return [`${type}${range}`, writer, ...how].join(", ");
}

// causeOf names the request that changed a property in a tick, and nothing where the page does not keep its decisions
// any more.
function causeOf(watch: State, thing: Thing, property: Property, tick: number): string {
  const decision = watch.decisions.find(
    (d) => d.tick === tick && d.changes.some((c) => c.entity === thing.entity && c.property === property.name),
  );
  if (decision) return `${decision.client.name}: ${decision.request}`;
  const oldest = watch.decisions.at(-1);
  return watch.decisions.length < keep || !oldest || oldest.tick < tick ? "no request" : "";
}

// titleOf words which entity a drawer shows.
export function titleOf(watch: State, entity: number): string {
  const thing = watch.server.things.get(entity);
  return thing ? nameOf(watch.server.clients, thing) : "Gone";
}
