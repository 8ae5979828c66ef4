// What the service has to tell who runs it, in sentences.

import { expect, test } from "vitest";
import type { ServiceState } from "../src/shared/api";
import { told } from "../src/shared/notice";

const well: ServiceState = {
  held: true,
  records_away: false,
  records_waiting: 0,
  records_waiting_bytes: 0,
  records_dropped: 0,
  refused_dropped: 0,
  sessions_failed: 0,
  recordings_away: false,
  recordings_waiting_bytes: 0,
  recording_gaps: 0,
};

test("a service that is well has nothing to tell", () => expect(told(well)).toEqual([]));

test("what is not stored is told, and what that means to players", () => {
  expect(told({ ...well, recordings_away: true, recordings_waiting_bytes: 2_345_678 })).toEqual([
    "The database does not take what sessions record: nothing that players keep is settled, and 2,346 kB wait.",
  ]);
  expect(told({ ...well, recording_gaps: 3 })).toEqual([
    "Recordings have gaps, since the database was away for too long: 3.",
  ]);
  expect(told({ ...well, never_settled: "fsync is off" })).toEqual([
    "Nothing that players keep is ever called settled: of the database, fsync is off.",
  ]);
});
