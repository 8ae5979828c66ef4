// What a page can go back to: the messages of a session as they came, in parts that each begin with a sheet. A part is
// played again to show a moment of it. Messages are kept as text, which takes a fraction of what they take when read.

import type { Watch } from "../shared/api";

// Bounds of what is kept; the oldest part goes first.
export const keptMs = 5 * 60_000;
export const keptBytes = 32 << 20;
export const partMs = 60_000; // after which a part is to end, so that a moment is soon played to

type Message = { tick: number; text: string };
type Part = { tick: number; at: number; sheet: string; messages: Message[]; bytes: number };

export type History = {
  parts: Part[];
  bytes: number;
};

export function emptyHistory(): History {
  return { parts: [], bytes: 0 };
}

// begin adds a part that begins with a sheet. Messages that came after the sheet's tick move into it.
export function begin(h: History, tick: number, sheet: string, now: number): void {
  const last = h.parts.at(-1);
  const messages = last?.messages.filter((m) => m.tick > tick) ?? [];
  h.parts.push({ tick, at: now, sheet, messages, bytes: sheet.length + sum(messages) });
  h.bytes += sheet.length;
  if (last) {
    last.messages = last.messages.filter((m) => m.tick <= tick);
    last.bytes = last.sheet.length + sum(last.messages);
  }
  drop(h, now);
}

// add keeps a message. Without a part to add it to it is lost.
export function add(h: History, tick: number, text: string, now: number): void {
  const part = h.parts.at(-1);
  if (!part) return;
  part.messages.push({ tick, text });
  part.bytes += text.length;
  h.bytes += text.length;
  drop(h, now);
}

// wantsSheet tells whether it is time to begin another part.
export function wantsSheet(h: History, now: number): boolean {
  const part = h.parts.at(-1);
  return !part || now - part.at > partMs;
}

// rangeOf gives the ticks that can be shown, both included.
export function rangeOf(h: History): [number, number] {
  const last = h.parts.at(-1);
  return [h.parts[0]?.tick ?? 0, last?.messages.at(-1)?.tick ?? last?.tick ?? 0];
}

// messagesTo gives the messages that lead to a tick, beginning with a sheet; those from before a tick that is already
// shown, in the same part, are left out.
export function messagesTo(h: History, tick: number, shown?: number): Watch[] {
  const part = h.parts.findLast((p) => p.tick <= tick) ?? h.parts[0];
  if (!part) return [];
  const read = (text: string) => JSON.parse(text) as Watch;
  const known = shown !== undefined && shown >= part.tick && shown <= tick ? shown : undefined;
  const after = part.messages.filter((m) => m.tick <= tick && (known === undefined || m.tick > known));
  const messages = after.map((m) => read(m.text));
  return known === undefined ? [read(part.sheet), ...messages] : messages;
}

function sum(messages: Message[]): number {
  return messages.reduce((all, m) => all + m.text.length, 0);
}

// drop forgets what is too old or too much. Of one part alone that is too much everything goes: what is kept begins
// again with the next sheet.
function drop(h: History, now: number): void {
  const isOver = () => h.bytes > keptBytes || (h.parts.length > 1 && now - (h.parts[1] as Part).at > keptMs);
  while (h.parts.length > 0 && isOver()) h.bytes -= (h.parts.shift() as Part).bytes;
}
