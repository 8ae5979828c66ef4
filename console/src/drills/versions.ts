// How drills did over the versions of a contract.

import type { DrillReport } from "../shared/api";

export type Over = { drill: string; passed: Map<number, boolean> };

// overVersions lists each drill once, those that fail on the newest version first, then by name.
export function overVersions(reports: Map<number, DrillReport>): Over[] {
  const all = new Map<string, Over>();
  for (const [version, report] of reports)
    for (const r of report.results) {
      const over = all.get(r.drill) ?? { drill: r.drill, passed: new Map<number, boolean>() };
      over.passed.set(version, r.passed);
      all.set(r.drill, over);
    }
  const newest = Math.max(...reports.keys());
  const fails = (o: Over) => (o.passed.get(newest) === false ? 0 : 1);
  return [...all.values()].sort((a, b) => fails(a) - fails(b) || (a.drill < b.drill ? -1 : 1));
}
