// What the service answers, and the calls that the console makes.

import type { ApiDocument } from "../calls/document";
import { signedOut, type Me } from "./me";

export type Type = {
  // bool, int, real, text, enum, vec2, vec3, direction, rotation, stacks, list, map, record, ref, client,
  // kind, instant, time
  form: string;
  low?: number;
  high?: number;
  per?: number; // of a real: low and high count steps of unit/per
  unit?: number;
  max?: number;
  each?: number;
  slotted?: boolean;
  enum?: { name: string; values: string[] };
  key?: Type; // of a map
  of?: Type; // of a list or map: of the values
  kinds?: string[]; // of a ref or kind
  name?: string; // of a record
  fields?: Param[]; // of a record
};
export type Param = { name: string; type: Type };
export type Property = {
  name: string;
  type: Type;
  to: string;
  clamped?: boolean;
  computed?: boolean;
  loose?: boolean;
  once?: boolean;
  keep?: boolean;
  set_by?: string; // who writes it, but for the server
  follows?: string; // the property that holds its rate, or `carrier.pos` when it is attached to that
  lease_ms?: number; // of a hold
};
export type Check = { text: string; reason: string; then: "deny" | "drop" | "strike" | "expel"; line: number };
export type RequestOutline = {
  name: string;
  params: Param[];
  from: string;
  limit?: number;
  limit_ms?: number;
  pause_ms?: number;
  reply?: Type;
  reasons: string[];
  checks?: Check[];
  line?: number;
};
export type Kind = {
  name: string;
  per?: string;
  shared?: boolean;
  to: string;
  properties: Property[];
  requests: RequestOutline[];
  events: { name: string; params: Param[] }[];
};
export type Outline = {
  contract: string;
  tick: number;
  seats: number;
  roles: string[];
  kinds: Kind[];
  ranges?: { audience: string; kind: string; property: string; radius: number }[]; // how near a client has to be
  constants?: { name: string; type: Type; value: unknown }[]; // those that clients get
  walls?: { name: string; type: Type; value: unknown }[]; // that are not public
};

export type Client = { number: number; name: string; role: string };
export type Session = {
  id: number;
  contract: string;
  version: number;
  opened_at: string;
  closed_at?: string;
  close_reason?: string;
  open: boolean;
  tick: number;
  paused: boolean;
  queued: number;
  clients: Client[];
  busy?: boolean;
  faults?: Faults;
  slow?: { ticks: number; ms: number; of: string };
  seed?: number; // that it was opened with: what is done in it can become a drill
};
export type Fault = {
  tick: number;
  times: number;
  in: string;
  file: string;
  line: number;
  about?: string;
  reason: string;
};
export type Faults = { count: number; last: Fault[] }; // the newest first
export type Version = {
  contract: string;
  version: number;
  fingerprint: string;
  published_at: string;
  source?: string; // of one version, with what follows
  files?: Record<string, string>;
  outline?: Outline;
  findings?: Finding[];
  settings?: Setting[];
  fresh?: boolean; // in the answer to publish
};
export type Setting = { name: string; type: Type; default: unknown; public?: boolean };
export type Explanation = { name: string; title: string; harm: string; example: string; mended: string };

export type Outcome = "accepted" | "denied" | "dropped" | "malformed" | "faulted";
export type Answer = { seq: number; outcome: Outcome; stage?: string; reason?: string; check: number; reply?: unknown };
export type Change = { entity: number; kind: string; owner: number; property: string; old: unknown; new: unknown };
export type Decision = {
  tick: number;
  client: Client;
  seq: number;
  request: string;
  entity: number;
  owner: number;
  args: unknown[];
  outcome: Outcome;
  stage: string;
  reason: string;
  check_text: string;
  line: number;
  changes: Change[];
  told: string[];
  checks?: {
    text: string;
    line: number;
    result: "passed" | "failed" | "not reached";
    values?: { name: string; value: unknown; words: string }[];
  }[];
};
export type Refused = {
  tick: number;
  client: Client;
  type: "write" | "press" | "release";
  property: string;
  outcome: Outcome;
  reason: string;
};
// LogLine is what was logged: by the contract (side 0) for clients, or by a client whose copy was at the tick seen.
export type LogLine = { tick: number; side: number; seen?: number; text: string; clients?: number[] };
export type Told = {
  tick: number;
  event: { event: string; entity?: number; values: Record<string, unknown> };
  clients: number[];
};

export type Spawned = { entity: number; kind: string; owner: number; values: Record<string, unknown> };
export type Update = { entity: number; kind: string; values: Record<string, unknown>; withdrawn?: string[] };
export type Block = {
  joined?: Client[];
  spawned?: Spawned[];
  owned?: { entity: number; owner: number }[];
  values?: Update[];
  gone?: number[];
  left?: number[];
};
export type Frame = { tick: number; snapshot?: boolean; state?: Block[] };
// WatchFrame is a frame of a client; state says which of the message's blocks it consists of.
export type WatchFrame = { tick: number; snapshot?: boolean; state?: number[] };
export type WatchClient = Client & {
  test: boolean;
  lost?: boolean; // its connection is lost
  seen: number;
  sent: number;
  waits?: number;
  bytes?: { limit: number; sent: number; waiting: number };
  frames?: WatchFrame[];
  differences?: number;
};
export type Watch = {
  type: "sheet" | "tick" | "close";
  session?: Session;
  outline?: Outline;
  tick: number;
  server?: Frame;
  clients: WatchClient[];
  blocks?: Block[];
  left?: number[];
  decisions: Decision[];
  told: Told[];
  faults?: Faults;
  traffic?: Span;
  load?: Load;
  refused?: Refused[];
  logs?: LogLine[];
  arrivals?: { tick: number; clients: Record<string, number> }[];
  reason?: string;
};

// Load says how long the ticks of the last second took.
export type Load = { mean_ms: number; longest_ms: number; period_ms: number; queued: number };

// Span is what was sent in the ticks up to one. Each row has its amounts by client, in the order of clients.
export type Span = { tick: number; ticks: number; clients: number[]; rows: SpanRow[] };
export type SpanRow = { up?: boolean; type: string; of?: string; bits: number[]; counts: number[] };

export type CostRow = { name: string; to?: string; most_bits: number; typical_bits: number; count?: number };
export type Cost = {
  clients: number;
  tick_rate: number;
  properties: CostRow[];
  requests: CostRow[];
  events: CostRow[];
  snapshot_bytes: number;
  most_bytes: number;
  typical_bytes: number;
  memory_bytes: number;
};
export type Finding = {
  file: string;
  line: number;
  column: number;
  length: number;
  code: string;
  message: string;
  hint?: string;
  warning?: boolean;
  source: string;
};
export type Access = "always" | "sometimes" | "never" | "unrelated";
export type MatrixProperty = {
  name: string;
  type: string;
  to: string;
  access: Access[];
  writer: string;
  within?: string;
  by: string[];
  line: number;
};
export type MatrixRequest = {
  name: string;
  from: string;
  access: Access[];
  limit?: string;
  pause?: string;
  checks: { text: string; reason: string; then: string }[];
  changes: string[];
  does: string[];
  tells: string[];
  reveals: string[];
  line: number;
};
export type Matrix = {
  viewers: { name: string; sort: string }[];
  properties: MatrixProperty[];
  requests: MatrixRequest[];
  events: { name: string; to: string[]; access: Access[]; by: string[] }[];
};
export type Comparison = {
  changes: {
    what: string;
    name: string;
    how: string;
    aspect?: string;
    was?: string;
    is?: string;
    then?: string;
  }[];
  takes_over: boolean;
  blocks: string[];
  stay: boolean;
  lose: string[];
};
export type AskedTrial = {
  what: "drills" | "audit";
  drills?: Record<string, string>;
  shake?: number;
  seed?: number;
  rounds?: number;
  ticks?: number;
};
export type Trial = {
  id: number;
  contract: string;
  version: number;
  what: "drills" | "audit";
  state: "waiting" | "running" | "ended" | "stopped" | "failed";
  done: number;
  of: number;
  asked_at: string;
  ended_at?: string;
  passed?: boolean;
  summary: string;
  asked?: AskedTrial; // of one trial, with what follows
  report?: DrillReport | AuditReport;
};
export type PlayDrill = { drills: Record<string, string>; drill: string; seed?: number; shaken?: unknown };
export type DrillReport = { passed: number; failed: number; seconds: number; ticks: number; results: DrillResult[] };
export type DrillResult = {
  drill: string;
  file: string;
  line: number;
  passed: boolean;
  ticks: number;
  virtual_ns: number;
  runs: number;
  failure?: DrillFailure;
  shaken?: { seed: number; faults: { client: string; what: string; time?: number; length?: number; share?: number }[] };
};
export type DrillFailure = {
  line: number;
  text: string;
  message: string;
  tick: number;
  sheet?: { who: string; client: number; value: string; behind?: number }[];
  causes?: string[];
  before?: string[];
};
export type AuditCell = {
  tried: number;
  outcomes?: Record<string, number>;
  effects?: string[];
  why?: string;
  reached: boolean;
};
// Effect is one cause of what attacks came to, with the shortest run that leads there. played is there when that can be
// played.
export type Effect = {
  text: string;
  seen: string[];
  times: number;
  state?: string;
  run?: string[];
  played?: { ticks: number };
};
export type AuditReport = {
  attacks: string[];
  rows: {
    name: string;
    sort: string;
    cells: AuditCell[];
    checks?: { text: string; passed: boolean; failed: boolean }[];
  }[];
  effects: number;
  causes: Effect[];
  learned: number;
  findings: string[];
  tried: number;
  filled: number;
  ticks: number;
  unseen: string[];
  empty: { target: string; attack: string; why: string }[];
};
export type Report = { fingerprint: string; findings: Finding[]; matrix: Matrix; cost: Cost; outline: Outline };

type ProblemBody = { detail?: string; code?: string; known?: string[]; problems?: Finding[] };

// Problem is an error answer of the service: what is wrong, and the mistakes of a contract or drill that was sent.
export class Problem extends Error {
  status: number;
  mistakes: Finding[];
  constructor(status: number, body: ProblemBody | null) {
    const known = body?.known?.length ? `; there is ${body.known.join(", ")}` : "";
    super((body?.detail ?? `The service answered ${status}`) + known);
    this.status = status;
    this.mistakes = body?.problems ?? [];
  }
}

// call sends a request to the service; an error answer is thrown with its detail and what exists instead.
async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const init: RequestInit = { method };
  if (body !== undefined) {
    init.body = JSON.stringify(body);
    init.headers = { "Content-Type": "application/json" };
  }
  let answer: Response;
  try {
    answer = await fetch(`/api${path}`, init);
  } catch {
    throw new Error("The service cannot be reached. Is it still running?");
  }
  if (!answer.ok) {
    const problem = (await answer.json().catch(() => null)) as ProblemBody | null;
    if (answer.status === 401 && path !== "/sign-in") signedOut(problem?.code ?? "", problem?.detail ?? "");
    throw new Problem(answer.status, problem);
  }
  return (answer.status === 204 ? undefined : await answer.json()) as T;
}

export type Link = {
  delay_ms: number;
  jitter_ms: number; // up to so much more
  loss: number; // how likely a message is lost and sent again, from 0 to 0.95
  reorder: number;
  bandwidth: number; // bytes a second; 0 for any
  cut: boolean;
};

export type ServiceState = {
  held: boolean;
  records_away: boolean;
  records_waiting: number;
  records_waiting_bytes: number;
  records_dropped: number;
  refused_dropped: number;
  sessions_failed: number;
  recordings_away: boolean;
  recordings_waiting_bytes: number;
  recording_gaps: number;
  never_settled?: string;
};

// Why a property has its value; see docs/console.md.
export type ReasonLink = {
  tick: number;
  type: string;
  words: string;
  through: string[];
  file?: string;
  line?: number;
  client?: number;
  checks?: { text: string; result: string; values: Record<string, string> }[];
  changes?: { of: string; old_text?: string; new_text: string }[];
  end?: "input" | "timer" | "start";
};
export type Reason = {
  entity: number;
  kind: string;
  property: string;
  at: number;
  value: unknown;
  changed: number; // the tick in which it became that; 0 for since the session began
  chain: ReasonLink[];
  deliveries: { client: number; name: string; sent?: number; confirmed?: number; why?: string }[];
};

// Stretch says which ticks of a recording were played.
export type Stretch = { session: number; from: number; to: number; last: number };

// Act is something that an operator has done.
export type Act = { session?: number; at: string; operator: string; act: string };

export const api = {
  me: () => call<Me>("GET", "/me"),
  signIn: (token: string) => call<Me>("POST", "/sign-in", { token }),
  signOut: () => call<void>("POST", "/sign-out"),
  acts: (id: number) => call<Act[]>("GET", `/sessions/${id}/acts`),
  service: () => call<ServiceState>("GET", "/service"),
  document: () => call<ApiDocument>("GET", "/openapi.json"),
  sessions: () => call<Session[]>("GET", "/sessions"),
  session: (id: number) => call<Session>("GET", `/sessions/${id}`),
  contracts: () => call<Version[]>("GET", "/contracts"),
  report: (contract: string, version: number) =>
    call<Report>("GET", `/contracts/${contract}/versions/${version}/report`),
  versions: (contract: string) => call<Version[]>("GET", `/contracts/${contract}`),
  version: (contract: string, version: number) => call<Version>("GET", `/contracts/${contract}/versions/${version}`),
  compare: (contract: string, from: number, to: number) =>
    call<Comparison>("GET", `/contracts/${contract}/compare?from=${from}&to=${to}`),
  publish: (file: string, source: string, files: Record<string, string>) =>
    call<Version>("POST", "/contracts", { file, source, files }),
  findings: () => call<Explanation[]>("GET", "/findings"),
  open: (contract: string, version = 0, seed = 0, settings: Record<string, unknown> = {}) =>
    call<Session>("POST", "/sessions", { contract, version, seed, settings }),
  drillOf: (id: number, name: string) =>
    call<{ text: string; left: number }>("GET", `/sessions/${id}/drill?name=${encodeURIComponent(name)}`),
  expect: (id: number, client: number, entity: number, property: string) =>
    call<{ tick: number; line: string }>("POST", `/sessions/${id}/drill/expect`, { client, entity, property }),
  trials: (contract: string, version: number) =>
    call<Trial[]>("GET", `/contracts/${contract}/versions/${version}/trials`),
  trial: (id: number) => call<Trial>("GET", `/trials/${id}`),
  startTrial: (contract: string, version: number, asked: AskedTrial) =>
    call<Trial>("POST", `/contracts/${contract}/versions/${version}/trials`, asked),
  stopTrial: (id: number) => call<Trial>("POST", `/trials/${id}/stop`),
  playEffect: (trial: number, effect: number) =>
    call<{ result: Effect; messages: Watch[] }>("GET", `/trials/${trial}/effects/${effect}/play`),
  play: (contract: string, version: number, drill: PlayDrill) =>
    call<{ result: DrillResult; messages: Watch[] }>("POST", `/contracts/${contract}/versions/${version}/play`, drill),
  playRecording: (id: number, from: number, to: number) =>
    call<{ result: Stretch; messages: Watch[] }>("GET", `/recordings/${id}/play?from=${from}&to=${to}`),
  why: (id: number, of: string, at: number) =>
    call<Reason>("GET", `/recordings/${id}/why?of=${encodeURIComponent(of)}&at=${at}`),
  close: (id: number) => call<Session>("POST", `/sessions/${id}/close`, { reason: "closed from the console" }),
  decisions: (id: number) => call<Decision[]>("GET", `/sessions/${id}/decisions?limit=200`),
  openClient: (id: number, name: string, role: string) =>
    call<Client>("POST", `/sessions/${id}/clients`, { name, role }),
  closeClient: (id: number, client: number) => call<Client>("POST", `/sessions/${id}/clients/${client}/close`),
  link: (id: number, client: number) => call<Link>("GET", `/sessions/${id}/clients/${client}/link`),
  setLink: (id: number, client: number, link: Link) =>
    call<Link>("POST", `/sessions/${id}/clients/${client}/link`, link),
  hold: (id: number, client: number, entity: number, property: string, release: boolean) =>
    call<{ pressed: boolean }>("POST", `/sessions/${id}/clients/${client}/hold`, { entity, property, release }),
  write: (id: number, client: number, entity: number, property: string, value: unknown) =>
    call<{ seq: number }>("POST", `/sessions/${id}/clients/${client}/write`, { entity, property, value }),
  ask: (id: number, client: number, entity: number, request: string, args: unknown[]) =>
    call<Answer>("POST", `/sessions/${id}/clients/${client}/ask`, { entity, request, args }),
};

export function message(e: unknown): string {
  return e instanceof Error ? e.message : String(e);
}
