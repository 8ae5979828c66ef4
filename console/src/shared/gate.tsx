// The gate: whoever the service does not know signs in here, by a token; all others pass.

import { useEffect, useState, type ReactNode } from "react";
import { api, message } from "./api";
import { signedIn, useMe } from "./me";

export function Gate({ children }: { children: ReactNode }) {
  const isOut = useMe((s) => s.isOut);
  useEffect(() => {
    api.me().then(signedIn, () => {}); // a 401 opens the gate's form; anything else the page itself tells
  }, []);
  return isOut ? <SignIn /> : children;
}

function SignIn() {
  const why = useMe((s) => s.why);
  const [token, setToken] = useState("");
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState("");
  useEffect(() => {
    document.title = "Sign in · Kamerad";
  }, []);
  const submit = async () => {
    setBusy(true);
    setError("");
    try {
      signedIn(await api.signIn(token.trim()));
    } catch (e) {
      setError(message(e));
    }
    setBusy(false);
  };
  return (
    <main className="mx-auto flex h-full w-96 flex-col justify-center gap-4 pb-24">
      <h1 className="text-lg font-semibold">Sign in to Kamerad</h1>
      {why && !error && <p role="status">{why}.</p>}
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          void submit();
        }}
      >
        <label className="block">
          Token
          <input
            className="field font-mono"
            type="password"
            autoComplete="current-password"
            value={token}
            onChange={(e) => setToken(e.target.value)}
          />
        </label>
        {error && (
          <p role="alert" className="text-bad">
            {error}
          </p>
        )}
        <button className="button main self-start" disabled={busy || !token.trim()}>
          Sign in
        </button>
      </form>
      <p className="text-muted">
        Whoever runs the service makes tokens: <code className="font-mono">kamerad token create NAME --right look</code>
        . This browser stays signed in for 12 hours.
      </p>
    </main>
  );
}
