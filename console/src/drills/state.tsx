// How far a trial is, or what came of it.

import type { Trial } from "../shared/api";

export function TrialState({ trial: t }: { trial: Trial }) {
  if (t.state === "waiting") return <span className="text-muted">waits for its turn</span>;
  if (t.state === "running")
    return (
      <span className="text-note">
        runs, <span className="value">{t.done}</span> of <span className="value">{t.of}</span>
      </span>
    );
  if (t.state === "stopped") return <span className="text-warn">stopped</span>;
  if (t.state === "failed") return <span className="text-bad">! could not be run</span>;
  return t.passed ? <span className="text-good">✓ passed</span> : <span className="text-bad">✕ failed</span>;
}
