// The contract that the tests of the page's logic speak of.

import type { Kind, Outline } from "../src/shared/api";

export function wreck(kinds: Kind[]): Outline {
  return { contract: "wreck", tick: 20, seats: 4, roles: ["player"], kinds };
}
