// Who looks: nobody yet, or an operator with a right. A service that wants no tokens takes everybody for one.

import { create } from "zustand";

export type Right = "look" | "play" | "run"; // each includes those before it
export type Me = { name: string; right: Right; open: boolean; tickets: boolean };

type State = {
  me?: Me;
  isOut: boolean; // the service wants to know who this is
  why: string; // what it said
};

export const useMe = create<State>(() => ({ isOut: false, why: "" }));

export function signedIn(me: Me) {
  useMe.setState({ me, isOut: false, why: "" });
}

// signedOut is called with what the service says to who is not signed in (any more).
export function signedOut(code: string, why: string) {
  // whoever never was signed in knows that, so that only what ended is said
  useMe.setState({ isOut: true, why: code === "token_missing" ? "" : why });
}

const rights: Right[] = ["look", "play", "run"];

// may says whether who looks has a right; until that is known, it is taken for granted and the service decides.
export function may(me: Me | undefined, right: Right): boolean {
  return !me || rights.indexOf(me.right) >= rights.indexOf(right);
}

export function useMay(right: Right): boolean {
  return useMe((s) => may(s.me, right));
}
