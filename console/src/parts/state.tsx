import type { ReactNode } from "react";
import type { State } from "../api/client";

const glyphs: Record<State, string> = {
  idle: "·",
  ready: "◔",
  queued: "◔",
  sent: "◔",
  running: "◐",
  waiting: "◌",
  cooling: "◑",
  held: "◇",
  succeeded: "●",
  failed: "✕",
  skipped: "–",
  unreached: "○",
  lost: "○",
  stopped: "■",
};

/** states in the order in which they are counted. */
export const states: State[] = ["failed", "held", "running", "cooling", "waiting", "ready", "idle", "succeeded", "skipped", "unreached", "stopped"];

const lit = (state: State) => state === "running";

const ring = <circle cx="6" cy="6" r="4.2" fill="none" stroke="currentColor" strokeWidth="1.3" />;

/** How each sign is drawn, on a square of twelve: fonts have them in other sizes everywhere, or not at all. */
const shapes: Record<string, ReactNode> = {
  "●": <circle cx="6" cy="6" r="4.6" fill="currentColor" />,
  "✕": <path d="M2.4 2.4l7.2 7.2M9.6 2.4l-7.2 7.2" stroke="currentColor" strokeWidth="1.9" strokeLinecap="round" />,
  "◐": (
    <>
      {ring}
      <path d="M6 1.8a4.2 4.2 0 0 0 0 8.4z" fill="currentColor" />
    </>
  ),
  "◑": (
    <>
      {ring}
      <path d="M6 1.8a4.2 4.2 0 0 1 0 8.4z" fill="currentColor" />
    </>
  ),
  "◔": (
    <>
      {ring}
      <path d="M6 6V1.8A4.2 4.2 0 0 1 10.2 6z" fill="currentColor" />
    </>
  ),
  "◌": <circle cx="6" cy="6" r="4.2" fill="none" stroke="currentColor" strokeWidth="1.5" strokeDasharray="1.6 1.7" />,
  "◇": <path d="M6 1.2L10.8 6L6 10.8L1.2 6z" fill="none" stroke="currentColor" strokeWidth="1.4" strokeLinejoin="round" />,
  "○": ring,
  "■": <rect x="2" y="2" width="8" height="8" rx="1" fill="currentColor" />,
  "–": <path d="M2.5 6h7" stroke="currentColor" strokeWidth="1.6" strokeLinecap="round" />,
  "·": <circle cx="6" cy="6" r="1.5" fill="currentColor" />,
};

/** Glyph is the sign of a state, so that colour is never its only code; who copies it gets the character. */
export function Glyph({ state }: { state: State }) {
  return (
    <span aria-hidden data-state={state} className={`state-colour relative inline-block size-[0.95em] shrink-0 align-[-0.08em] leading-none ${lit(state) ? "lamp-lit" : ""}`}>
      <span className="absolute inset-0 overflow-hidden opacity-0">{glyphs[state]}</span>
      <svg viewBox="0 0 12 12" className="absolute inset-0 size-full">
        {shapes[glyphs[state]]}
      </svg>
    </span>
  );
}

/** StateMark is a state with its glyph and its word. */
export function StateMark({ state, strong }: { state: State; strong?: boolean }) {
  return (
    <span data-state={state} className={`state-colour inline-flex items-center gap-1.5 whitespace-nowrap ${strong ? "font-semibold" : ""}`}>
      <Glyph state={state} />
      {state}
    </span>
  );
}

/** Counts are how many tasks are in each state. */
export function Counts({ counts, words }: { counts: Record<string, number>; words?: boolean }) {
  return (
    <span className={`inline-flex gap-x-3 whitespace-nowrap ${words ? "flex-wrap" : ""}`}>
      {states
        .filter((s) => counts[s])
        .map((s) => (
          <span key={s} title={`${counts[s]} ${s}`} data-state={s} className="state-colour inline-flex items-center gap-1">
            <Glyph state={s} />
            {counts[s]}
            <span className={words ? "" : "sr-only"}>{s}</span>
          </span>
        ))}
    </span>
  );
}

const settled: State[] = ["succeeded", "failed", "skipped", "unreached", "stopped"];

/** itemsText says how far the items of a task have come. */
export function itemsText({ count, counts }: { count: number; counts: Record<string, number> }): string {
  const done = settled.reduce((n, s) => n + (counts[s] ?? 0), 0);
  const failed = counts["failed"] ? `, ${counts["failed"]} failed` : "";
  return (done === count ? `${count} items` : `${done} of ${count} items`) + failed;
}
