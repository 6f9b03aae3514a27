import type { Forecast, Run, Task } from "../api/client";
import { Glyph } from "../parts/state";
import { length, moment, useNow, useZone } from "../parts/time";

interface Piece {
  from: number;
  to: number;
  kind: "ready" | "waiting" | "cooling" | "running" | "failed" | "succeeded" | "other";
}

const look: Record<Piece["kind"], string> = {
  ready: "var(--ready)",
  waiting: "var(--waiting)",
  cooling: "var(--running)",
  running: "var(--running)",
  failed: "var(--failed)",
  succeeded: "var(--succeeded)",
  other: "var(--none)",
};

/** piecesOf tells a task's time apart: attempts, the pauses between them, and what it waited for before and outside. */
export function piecesOf(task: Task, begin: number, now: number): Piece[] {
  const pieces: Piece[] = [];
  let at = begin;
  const parked = task.kind === "wait" || task.kind === "approve" || task.kind === "start";
  task.attempts.forEach((a, i) => {
    if (!a.started) return;
    const from = Date.parse(a.started);
    const to = a.ended ? Date.parse(a.ended) : now;
    if (from > at && at > 0) pieces.push({ from: at, to: from, kind: i === 0 ? "ready" : "cooling" });
    const how = parked ? "waiting" : a.state === "running" ? "running" : a.state === "succeeded" ? "succeeded" : a.state === "failed" || a.state === "lost" ? "failed" : "other";
    pieces.push({ from, to: Math.max(to, from), kind: parked && a.state === "failed" ? "failed" : how });
    at = to;
  });
  if (!task.ended && at > 0 && ["ready", "cooling", "waiting"].includes(task.state) && now > at) pieces.push({ from: at, to: now, kind: task.state as "ready" });
  return pieces;
}

/** readyAt is when what a task comes after had settled. */
function readyAt(task: Task, ends: Map<string, number>, begin: number): number {
  let at = begin;
  for (const { task: before } of task.after) at = Math.max(at, ends.get(before) ?? 0);
  return at;
}

/** TimeAxis shows where the time of a run went, with the tasks that decided when it ended marked. */
export function TimeAxis({ run, forecast, chosen, onChoose }: { run: Run; forecast: Forecast | undefined; chosen: string | undefined; onChoose: (task: string) => void }) {
  const now = useNow(1000, !run.ended);
  const zone = useZone();
  if (!run.started) return <p className="px-5 py-8 text-soft">It has not begun, so no time has gone.</p>;
  const tasks = (run.tasks ?? []).filter((t) => !t.item_of);
  const begin = Date.parse(run.started);
  const ends = new Map(tasks.flatMap((t) => (t.ended ? [[t.name, Date.parse(t.ended)] as const] : [])));
  const expected = !run.ended && forecast?.end ? Date.parse(forecast.end) : 0;
  const rows = tasks
    .map((task) => ({ task, pieces: piecesOf(task, task.state === "idle" ? 0 : readyAt(task, ends, begin), now) }))
    .filter(({ pieces }) => pieces.length > 0)
    .sort((a, b) => (a.pieces[0]?.from ?? 0) - (b.pieces[0]?.from ?? 0));
  const end = Math.max(begin + 1, run.ended ? Date.parse(run.ended) : Math.max(now, expected), ...rows.flatMap(({ pieces }) => pieces.map((p) => p.to)));
  const place = (at: number) => `${(100 * (at - begin)) / (end - begin)}%`;
  const critical = new Set(forecast?.critical);
  const ticks = [0, 0.25, 0.5, 0.75, 1];
  return (
    <div className="rounded-xl border border-line bg-surface">
      <div className="flex flex-wrap items-center gap-x-6 gap-y-1 border-b border-line px-5 py-2.5 text-[0.87rem] text-soft">
        {(["ready", "waiting", "cooling", "running", "succeeded", "failed"] as const).map((kind) => (
          <span key={kind} className="inline-flex items-center gap-1.5">
            <Swatch kind={kind} /> {kind}
          </span>
        ))}
        <span className="inline-flex items-center gap-1.5">
          <span aria-hidden className="inline-block h-0 w-4 border-b-2 border-lamp" /> decided the end
        </span>
        {expected > 0 && (
          <span className="ml-auto text-ink">
            should end {moment(forecast?.end ?? "", zone)}, <span className="figures">{expected > now ? `in ${length(expected - now)}` : "now"}</span>
          </span>
        )}
      </div>
      <div className="max-h-[26rem] overflow-auto py-1.5" tabIndex={0} role="region" aria-label="Time axis">
        <ul>
          {rows.map(({ task, pieces }) => (
            <li key={task.name} data-row className={`grid grid-cols-[minmax(8rem,14rem)_1fr_5rem] items-center gap-x-4 px-5 ${task.name === chosen ? "bg-raised" : "hover:bg-raised/60"}`}>
              <button type="button" onClick={() => onChoose(task.name)} className="flex min-w-0 items-center gap-2 py-1 text-left hover:underline" aria-label={`${task.name}, ${task.state}${critical.has(task.name) ? ", decided the end" : ""}`}>
                <Glyph state={task.state} />
                <span className={`truncate ${critical.has(task.name) ? "font-semibold" : ""}`}>{task.name}</span>
              </button>
              <span className="relative block h-5" title={`${task.name}: ${pieces.map((p) => `${p.kind} ${length(p.to - p.from)}`).join(", ")}`}>
                {pieces.map((p, i) => (
                  <span
                    key={i}
                    className={`absolute top-1 h-3 rounded-[2px] ${p.kind === "running" ? "lamp-lit" : ""}`}
                    style={{ left: place(p.from), width: `max(2px, ${(100 * (p.to - p.from)) / (end - begin)}%)`, ...fill(p.kind) }}
                  />
                ))}
                {critical.has(task.name) && (
                  <span className="absolute top-[1.15rem] border-b-2 border-lamp" style={{ left: place(pieces.find((p) => p.kind !== "ready")?.from ?? begin), right: `calc(100% - ${place(pieces.at(-1)?.to ?? begin)})`, minWidth: 2 }} />
                )}
              </span>
              <span className="figures text-right text-[0.87rem] text-soft">{task.started ? length((task.ended ? Date.parse(task.ended) : now) - Date.parse(task.started)) : ""}</span>
            </li>
          ))}
        </ul>
        <div className="grid grid-cols-[minmax(8rem,14rem)_1fr_5rem] gap-x-4 px-5 pt-1">
          <span />
          <span className="figures relative block h-5 border-t border-line text-[0.8rem] text-soft">
            {ticks.map((part) => (
              <span key={part} className={`absolute ${part === 1 ? "-translate-x-full" : part > 0 ? "-translate-x-1/2" : ""}`} style={{ left: `${100 * part}%` }}>
                {length(part * (end - begin))}
              </span>
            ))}
          </span>
          <span />
        </div>
      </div>
    </div>
  );
}

/** fill is how a stretch is painted: what only waits is hatched, so that colour is not its only code. */
function fill(kind: Piece["kind"]) {
  const colour = look[kind];
  if (kind === "ready") return { background: "transparent", boxShadow: `inset 0 0 0 1px ${colour}` };
  if (kind === "waiting") return { background: `repeating-linear-gradient(135deg, ${colour} 0 2px, transparent 2px 6px)` };
  if (kind === "cooling") return { background: `repeating-linear-gradient(90deg, ${colour} 0 2px, transparent 2px 5px)` };
  return { background: colour };
}

function Swatch({ kind }: { kind: Piece["kind"] }) {
  return <span aria-hidden className="inline-block h-3 w-4 rounded-[2px]" style={fill(kind)} />;
}
