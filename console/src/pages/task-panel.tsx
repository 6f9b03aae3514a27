import { Download } from "lucide-react";
import { Link } from "react-router";
import { logPath, type Attempt, type Forecast, type Run, type Task } from "../api/client";
import { StateMark } from "../parts/state";
import { Moment, Took, Until } from "../parts/time";
import { ReleaseDialogs, RerunDialog, StopTaskDialog } from "./actions";
import { Awaited } from "./awaited";
import { ItemList, valueText } from "./items";
import { Log } from "./log";
import { GivenTo, TaskFacts } from "./task-facts";

/** TaskPanel is one task of a run: its attempts, its result, the log of one of them. */
export function TaskPanel(props: {
  run: Run;
  task: Task;
  forecast: Forecast | undefined;
  attempt: number | undefined;
  onAttempt: (attempt: number) => void;
  onTask: (task: string) => void;
}) {
  const { run, task } = props;
  const attempt = task.attempts.find((a) => a.number === props.attempt) ?? task.attempts.at(-1);
  const reason = reasonOf(task, attempt);
  return (
    <section aria-label={`Task ${task.name}`} className="mt-5 overflow-hidden rounded-xl border border-line bg-surface">
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2 border-b border-line px-5 py-3">
        <h2 className="text-lg font-semibold">
          {task.item_of ? (
            <>
              <button type="button" className="text-soft hover:text-ink hover:underline" onClick={() => props.onTask(task.item_of ?? "")}>
                {task.item_of}
              </button>
              {task.name.slice(task.item_of.length)}
            </>
          ) : (
            task.name
          )}
        </h2>
        <StateMark state={task.state} />
        {task.item_of ? (
          <code className="max-w-sm truncate font-mono text-[0.87rem]" title={valueText(task.item)}>
            {valueText(task.item)}
          </code>
        ) : (
          task.about && <span className="text-soft">{task.about}</span>
        )}
        {task.ended && (
          <div className="ml-auto flex items-center gap-1">
            <RerunDialog run={run} how="from" task={task.name} name="Rerun from here" look="bare" />
            <RerunDialog run={run} how="only" task={task.name} name="Rerun only this" look="bare" />
          </div>
        )}
        {!task.ended && ["ready", "running", "waiting", "cooling"].includes(task.state) && (
          <div className="ml-auto">
            <StopTaskDialog run={run} task={task} />
          </div>
        )}
        {attempt && !attempt.run && (
          <div className={`flex items-center gap-3 ${task.ended || ["ready", "running", "waiting", "cooling"].includes(task.state) ? "" : "ml-auto"}`}>
            <Attempts attempts={task.attempts} chosen={attempt.number} onChoose={props.onAttempt} />
            <a
              href={`/api${logPath(run.id, task.name, attempt.number, {}, "/raw")}`}
              className="inline-flex h-8 items-center gap-1.5 rounded-lg px-2.5 text-soft hover:bg-raised hover:text-ink"
              title="Download the log, byte for byte"
              download
            >
              <Download size={15} /> Log
            </a>
          </div>
        )}
      </div>
      {task.state === "held" && (
        <div className="flex flex-wrap gap-2 border-b border-line px-5 py-2.5">
          <ReleaseDialogs run={run} task={task} />
        </div>
      )}
      {task.state === "waiting" && (task.kind === "wait" || task.kind === "approve") && <Awaited run={run} task={task} />}
      {reason && task.state !== "waiting" && (
        <p className="border-b border-line px-5 py-2.5">
          <span data-state={attempt?.error ? attempt.state : task.state} className="state-colour">
            {reason}
          </span>
          {task.state === "cooling" && task.wakes && (
            <span className="text-soft">
              {" "}
              – tried again <Until at={task.wakes} />
            </span>
          )}
        </p>
      )}
      <TaskFacts run={run} task={task} attempt={attempt} forecast={props.forecast} onTask={props.onTask} />
      {task.items ? (
        <ItemList run={run} task={task} onTask={props.onTask} />
      ) : attempt ? (
        <>
          <p className="flex flex-wrap gap-x-6 px-5 pt-3 text-[0.87rem] text-soft">
            <span>
              attempt {attempt.number}, <StateMark state={attempt.state} />
            </span>
            {attempt.started && (
              <span>
                began <Moment at={attempt.started} />, took <Took start={attempt.started} end={attempt.ended} />
              </span>
            )}
            {attempt.exit_code !== undefined && <span>exit code {attempt.exit_code}</span>}
            {attempt.worker && <span>on {attempt.worker}</span>}
            {attempt.run && (
              <span>
                run{" "}
                <Link to={`/runs/${attempt.run}`} className="text-ink hover:underline">
                  {attempt.run}
                </Link>
              </span>
            )}
            {task.result && attempt === task.attempts.at(-1) && (
              <span>
                result <code className="font-mono text-ink">{JSON.stringify(task.result)}</code>
              </span>
            )}
          </p>
          {attempt.run ? (
            <p className="px-5 py-6 text-soft">What it did stands in the run that it started.</p>
          ) : (
            <Log key={attempt.number} run={run.id} task={task.name} attempt={attempt.number} />
          )}
        </>
      ) : (
        <p className="px-5 py-8 text-soft">{task.ended ? "It was never tried, so there is no log." : (task.waits ?? "It has not been tried yet.")}</p>
      )}
      <GivenTo run={run} task={task} />
    </section>
  );
}

/** reasonOf says why a task, or an older attempt of it, came out as it did. */
function reasonOf(task: Task, attempt: Attempt | undefined): string | undefined {
  const error = attempt?.error;
  if (task.waits && attempt === task.attempts.at(-1)) return `It ${task.waits}`;
  if (attempt !== task.attempts.at(-1) || !task.reason) return error;
  return error && !task.reason.includes(error) ? `${task.reason}: ${error}` : task.reason;
}

function Attempts({ attempts, chosen, onChoose }: { attempts: Attempt[]; chosen: number; onChoose: (attempt: number) => void }) {
  if (attempts.length < 2) return null;
  return (
    <div role="group" aria-label="Attempts" className="flex gap-1">
      {attempts.map((a) => (
        <button
          key={a.number}
          type="button"
          aria-pressed={a.number === chosen}
          aria-label={`Attempt ${a.number}, ${a.state}`}
          onClick={() => onChoose(a.number)}
          className="inline-flex h-8 items-center gap-1.5 rounded-lg px-2.5 hover:bg-raised aria-pressed:bg-raised"
        >
          <StateMark state={a.state} /> <span className="text-soft">{a.number}</span>
        </button>
      ))}
    </div>
  );
}
