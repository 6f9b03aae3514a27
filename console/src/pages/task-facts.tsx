import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, runPath, type Attempt, type Forecast, type Given, type Run, type Task } from "../api/client";
import { Button } from "../parts/button";
import { CopyButton } from "../parts/copy";
import { Glyph } from "../parts/state";
import { length, Moment, useNow } from "../parts/time";

/** bytes is an amount of memory as people say it. */
export function bytes(n: number): string {
  if (n >= 1 << 30) return `${(n / (1 << 30)).toFixed(1)} GB`;
  if (n >= 1 << 20) return `${Math.round(n / (1 << 20))} MB`;
  return `${Math.round(n / 1024)} KB`;
}

/** TaskFacts tells how long a task usually takes, when it should end, what it used, and what waits for it. */
export function TaskFacts({ run, task, attempt, forecast, onTask }: { run: Run; task: Task; attempt: Attempt | undefined; forecast: Forecast | undefined; onTask: (task: string) => void }) {
  const ends = forecast?.ends[task.name];
  const now = useNow(1000, !!ends && !task.ended);
  const usual = forecast?.tasks[task.name];
  const states = new Map((run.tasks ?? []).map((t) => [t.name, t.state]));
  const state = (name: string) => states.get(name) ?? "idle";
  const telling = (a: string, b: string) => Number(state(a) === "succeeded") - Number(state(b) === "succeeded"); // what did not go well first
  const next = (run.tasks ?? []).filter((t) => !t.item_of && t.after.some((d) => d.task === task.name)).sort((a, b) => telling(a.name, b.name));
  const before = task.after.filter((d) => !d.task.endsWith("@previous")).sort((a, b) => telling(a.task, b.task));
  const link = (name: string) => (
    <button key={name} type="button" className="inline-flex items-center gap-1 whitespace-nowrap hover:underline" onClick={() => onTask(name)}>
      <Glyph state={state(name)} />
      {name}
    </button>
  );
  return (
    <div className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-b border-line px-5 py-2.5 text-[0.87rem]">
      {usual ? (
        <span title={`of ${usual.count} successes: shortest ${length(usual.shortest_seconds * 1000)}, median ${length(usual.median_seconds * 1000)}, 95 of 100 within ${length(usual.p95_seconds * 1000)}, longest ${length(usual.longest_seconds * 1000)}`}>
          <span className="text-soft">usually takes</span> {length(usual.median_seconds * 1000)} <span className="text-soft">({length(usual.shortest_seconds * 1000)} to {length(usual.longest_seconds * 1000)})</span>
        </span>
      ) : (
        <span className="text-soft">has not succeeded before</span>
      )}
      {ends && !task.ended && (
        <span className={ends.over ? "text-waiting" : ""}>
          {ends.over ? "◷ takes far longer than usual" : (
            <>
              <span className="text-soft">should end</span> <Moment at={ends.at} /> <span className="figures text-soft">{Date.parse(ends.at) > now ? `in ${length(Date.parse(ends.at) - now)}` : "now"}</span>
            </>
          )}
        </span>
      )}
      {attempt?.cpu_seconds !== undefined && (
        <span>
          <span className="text-soft">used</span> {length(attempt.cpu_seconds * 1000)} <span className="text-soft">of processor{attempt.peak_bytes ? `, at most ${bytes(attempt.peak_bytes)}` : ""}</span>
        </span>
      )}
      {before.length > 0 && (
        <span className="flex flex-wrap gap-x-3">
          <span className="text-soft">after</span> {before.slice(0, 8).map((d) => link(d.task))}
          {before.length > 8 && <span className="text-soft">and {before.length - 8} more</span>}
        </span>
      )}
      {next.length > 0 && (
        <span className="flex flex-wrap gap-x-3">
          <span className="text-soft">before</span> {next.slice(0, 8).map((t) => link(t.name))}
          {next.length > 8 && <span className="text-soft">and {next.length - 8} more</span>}
        </span>
      )}
    </div>
  );
}

/** GivenTo is what a task was given: its program or script, and its variables. */
export function GivenTo({ run, task }: { run: Run; task: Task }) {
  const [open, setOpen] = useState(false);
  const given = useQuery({
    queryKey: ["given", run.id, task.name],
    queryFn: () => call<Given>("GET", `${runPath(run.id)}/given?task=${encodeURIComponent(task.name)}`),
    enabled: open,
    retry: false,
  });
  if (!["exec", "shell"].includes(task.kind) || task.items) return null;
  return (
    <div className="border-t border-line px-5 py-2">
      <Button look="bare" className="-ml-3.5" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? "Hide what it was given" : "What it was given"}
      </Button>
      {open && given.error && <p className="pb-2 text-failed">✕ {given.error.message}</p>}
      {open && given.data && (
        <div className="overflow-x-auto pb-3 font-mono text-[0.83rem]">
          {given.data.exec && (
            <p className="mb-2 break-words whitespace-pre-wrap">
              {given.data.exec.map((word) => (/^[\w./:=@%+-]+$/.test(word) ? word : JSON.stringify(word))).join(" ")} <CopyButton text={given.data.exec.join(" ")} what="the words" />
            </p>
          )}
          {given.data.shell && <pre className="mb-2 whitespace-pre-wrap">{given.data.shell}</pre>}
          <dl className="grid grid-cols-[auto_1fr] gap-x-5">
            {Object.entries(given.data.env)
              .sort(([a], [b]) => a.localeCompare(b))
              .map(([name, value]) => (
                <div key={name} className="contents">
                  <dt className="text-soft">{name}</dt>
                  <dd className="break-all">{value}</dd>
                </div>
              ))}
          </dl>
        </div>
      )}
    </div>
  );
}
