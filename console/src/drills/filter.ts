// Which rows of the sheet a line of a drill is about.

import type { State } from "../session/watch";

// About is what a line names: an owner, a kind and a property, as far as it does.
export type About = { owner?: string; kind: string; property?: string };

// aboutOf reads a line such as `expect bo sees ana.Diver.hull == 60`.
export function aboutOf(line: string): About | undefined {
  const m = /(?:\b([a-z_]\w*)\.)?\b([A-Z]\w*)(?:\[[^\]]*\])?(?:\.(\w+))?/.exec(line);
  return m ? { owner: m[1], kind: m[2] as string, property: m[3] } : undefined;
}

// filterOf gives a filter of the sheet for the entities that are meant.
export function filterOf(about: About): string {
  return `kind:${about.kind}${about.owner ? ` owner:${about.owner}` : ""}`;
}

// rowOf gives the key of the row that is meant, if one alone can be.
export function rowOf(about: About, s: State): string {
  const owner = s.server.clients.find((c) => c.name === about.owner)?.number;
  const meant = [...s.server.things.values()].filter(
    (t) => t.kind === about.kind && (about.owner === undefined || t.owner === owner),
  );
  return meant.length === 1 ? `${meant[0]?.entity}/${about.property ?? ""}` : "";
}
