import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, BASE, good } from "../api/client";
import { Button, Mono, Trouble } from "../parts/basics";

/** `failed`: what became of a one-time link that brought somebody here. */
export function SignIn({ failed }: { failed: Error | null }) {
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const [error, setError] = useState<Error | null>(failed);
  const [busy, setBusy] = useState(false);

  async function submit(event: FormEvent): Promise<void> {
    event.preventDefault();
    setBusy(true);
    try {
      queries.setQueryData(["session"], good(await api.POST("/api/session", { body: { token: token.trim() } })));
    } catch (problem) {
      setError(problem as Error);
      setBusy(false);
    }
  }

  return (
    <main className="mx-auto flex min-h-full max-w-[400px] flex-col justify-center px-4 py-16">
      <p className="flex items-center gap-3 text-title font-semibold">
        <img src={`${BASE}/lamp.svg`} alt="" width={32} height={32} /> Lamp Post
      </p>
      <p className="mt-2 text-soft">Trained models in service: proven, validated, batched, recorded.</p>
      <form className="mt-6" onSubmit={(event) => void submit(event)}>
        <label htmlFor="token" className="font-semibold">
          Token
        </label>
        <input
          id="token"
          type="password"
          className="control mt-1"
          autoComplete="current-password"
          // the page is for this one thing
          // eslint-disable-next-line jsx-a11y/no-autofocus
          autoFocus
          placeholder="lamp_…"
          value={token}
          aria-invalid={error !== null}
          onChange={(event) => setToken(event.target.value)}
        />
        <Button kind="main" type="submit" className="mt-3 w-full" disabled={busy || token.trim() === ""}>
          Sign in
        </Button>
      </form>
      {error && (
        <div className="mt-4">
          <Trouble error={error} />
        </div>
      )}
      <p className="mt-6 text-small text-faint">
        No token at hand? On the machine where the service was started, <Mono className="text-soft">lamppost console</Mono> prints a link
        that signs this browser in.
      </p>
    </main>
  );
}
