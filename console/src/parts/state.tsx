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

/** Glyph is the sign of a state, so that colour is never its only code. */
export function Glyph({ state }: { state: State }) {
  return (
    <span aria-hidden data-state={state} className={`state-colour inline-block w-[1em] text-center font-mono -translate-y-px text-[1.15em] leading-none ${lit(state) ? "lamp-lit" : ""}`}>
      {glyphs[state]}
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
