import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { call } from "../api/client";
import { Button } from "../parts/button";
import { Command } from "../parts/notes";

// A code works once, and React mounts twice when it is strict.
let exchange: Promise<unknown> | undefined;

export function SignInPage() {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [query] = useSearchParams();
  const [token, setToken] = useState("");
  const [trouble, setTrouble] = useState("");
  const [code] = useState(() => new URLSearchParams(location.hash.slice(1)).get("code"));
  const asked = query.get("next") ?? "/";
  const next = asked.startsWith("/") && !asked.startsWith("//") ? asked : "/";

  const signIn = async (how: Promise<unknown>) => {
    try {
      await how;
      queries.clear();
      await navigate(next, { replace: true });
    } catch (error) {
      setTrouble(error instanceof Error ? error.message : String(error));
    }
  };
  useEffect(() => {
    if (!code) return;
    exchange ??= call("POST", "/session", { code });
    exchange.then(
      () => {
        queries.clear();
        void navigate(next, { replace: true });
      },
      (error: Error) => setTrouble(error.message),
    );
  }, [code, navigate, next, queries]);

  return (
    <main className="grid min-h-screen place-items-center px-6">
      <div className="w-[min(26rem,100%)]">
        <img src="/lantern.svg" alt="" width={44} height={44} />
        <h1 className="mt-5 text-2xl font-semibold tracking-tight">Wise Lantern</h1>
        {code && !trouble ? (
          <p role="status" className="mt-2 text-soft">
            Signing in…
          </p>
        ) : (
          <form
            className="mt-2 flex flex-col gap-4"
            onSubmit={(event) => {
              event.preventDefault();
              setTrouble("");
              void signIn(call("POST", "/session", { token: token.trim() }));
            }}
          >
            <p className="text-soft">
              Open the link that <Command>lantern console</Command> prints, or paste the token from the file <Command>token</Command> of the data folder.
            </p>
            <label className="flex flex-col gap-1.5">
              <span className="text-soft">Token</span>
              <input
                type="password"
                autoComplete="off"
                value={token}
                onChange={(event) => setToken(event.target.value)}
                className="h-10 rounded-lg border border-line bg-surface px-3 font-mono"
              />
            </label>
            {trouble && (
              <p role="alert" className="text-failed">
                ✕ {trouble}
              </p>
            )}
            <Button look="lamp" type="submit" disabled={!token.trim()} className="self-start">
              Sign in
            </Button>
          </form>
        )}
      </div>
    </main>
  );
}
