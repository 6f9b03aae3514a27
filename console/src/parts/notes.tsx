import type { ReactNode } from "react";
import { Problem } from "../api/client";

/** Empty says that there is nothing yet, and how something comes to be. */
export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="rounded-xl border border-dashed border-line px-8 py-14 text-center">
      <p className="text-lg font-medium">{title}</p>
      <div className="mx-auto mt-2 max-w-xl text-soft">{children}</div>
    </div>
  );
}

/** NotShown says what went wrong with what was asked for. */
export function NotShown({ error, what }: { error: Error; what: string }) {
  const reason = error instanceof Problem ? error.message : "the service does not answer; it is asked again when it is back";
  return (
    <div role="alert" className="rounded-xl border border-failed/60 bg-surface px-5 py-4">
      <p className="font-medium text-failed">✕ {what}</p>
      <p className="mt-1 text-soft">{reason}</p>
    </div>
  );
}

export function Loading({ what }: { what: string }) {
  return (
    <p role="status" className="py-10 text-soft">
      Reading {what}…
    </p>
  );
}

export function Command({ children }: { children: string }) {
  return <code className="rounded-md bg-raised px-1.5 py-0.5 font-mono text-[0.87em] text-ink">{children}</code>;
}
