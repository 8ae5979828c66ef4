// The signs and marks that stand for states and clients, the same everywhere.

import type { Outcome } from "./api";

const shapes = ["▲", "●", "■", "◆", "▼", "○", "□", "◇"];

// shapeOf gives the shape that stands for a client.
export function shapeOf(number: number): string {
  return shapes[(number - 1) % shapes.length] as string;
}

export function Mark({ number }: { number: number }) {
  const i = number - 1;
  return (
    <span className="text-muted" aria-hidden="true">
      {String.fromCharCode(65 + (i % 26))} {shapeOf(number)}
    </span>
  );
}

export const outcomes: Record<Outcome, { sign: string; colour: string }> = {
  accepted: { sign: "✓", colour: "text-good" },
  denied: { sign: "✕", colour: "text-bad" },
  dropped: { sign: "↓", colour: "text-warn" },
  malformed: { sign: "?", colour: "text-bad" },
  faulted: { sign: "!", colour: "text-bad" },
};

export function Verdict({ outcome }: { outcome: Outcome }) {
  const { sign, colour } = outcomes[outcome];
  return (
    <span className={`${colour} font-semibold`}>
      <span aria-hidden="true">{sign} </span>
      {outcome}
    </span>
  );
}

export function Sign({ sign, behind }: { sign: "=" | "late" | "≠" | "–" | "∅"; behind: number }) {
  const [text, word, colour] = {
    "=": ["=", "as the server", "text-good"],
    late: [`+${behind}`, `${behind} ticks behind`, "text-warn"],
    "≠": ["≠", "different", "text-bad"],
    "–": ["–", "not for this client", "text-muted"],
    "∅": ["∅", "withdrawn: this client had it, and has it no more", "text-note"],
  }[sign] as [string, string, string];
  return (
    <span className={`${colour} value`} title={word}>
      <span aria-hidden="true">{text}</span>
      <span className="sr-only">{word}</span>
    </span>
  );
}
