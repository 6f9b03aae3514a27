import { useQuery } from "@tanstack/react-query";
import { Square } from "lucide-react";
import { Tabs } from "radix-ui";
import { lazy, Suspense } from "react";
import { Link, useParams } from "react-router";
import { call, itemsPath, runPath, type Forecast, type Items, type Run, type Task, type Workflow, workflowPath } from "../api/client";
import { useLive } from "../api/live";
import { useAddress } from "../parts/address";
import { Button } from "../parts/button";
import { Loading, NotShown } from "../parts/notes";
import { Trail } from "../parts/shell";
import { Counts, itemsText, StateMark } from "../parts/state";
import { Cell, Row, Table } from "../parts/table";
import { TabList } from "../parts/tabs";
import { CopyButton } from "../parts/copy";
import { InZone, length, Moment, Took, Until, WindowText } from "../parts/time";
import { ActDialog, RerunDialog } from "./actions";
import { valueText } from "./items";
import { bytes } from "./task-facts";
import { TaskPanel } from "./task-panel";
import { TimeAxis } from "./time-axis";

const Graph = lazy(() => import("../graph/graph"));

export function RunPage() {
  const { run: id = "" } = useParams();
  const [query, change] = useAddress();
  const run = useQuery({ queryKey: ["run", id], queryFn: () => call<Run>("GET", `${runPath(id)}?fold=true`) });
  useLive(run.error ? undefined : id); // one that is not there yet may come
  const forecast = useQuery({ queryKey: ["forecast", id], queryFn: () => call<Forecast>("GET", `${runPath(id)}/forecast`), enabled: !!run.data }).data;
  const name = id.split(":")[0] ?? "";
  const zone = useQuery({ queryKey: ["workflow", name], queryFn: () => call<Workflow>("GET", workflowPath(name)), enabled: !!run.data, staleTime: 60_000 }).data?.definition?.starts?.[0]?.zone;
  const wanted = query.get("task") ?? "";
  const item = useItem(id, wanted);
  if (run.error) return <NotShown error={run.error} what={`The run ${id} cannot be shown`} />;
  if (run.isPending) return <Loading what={id} />;
  const r = run.data;
  const tasks = r.tasks ?? [];
  const task = tasks.find((t) => t.name === wanted.split("[")[0]) ?? firstOfInterest(tasks);
  const chosen = item ?? task;
  const set = (name: string, value: string) => change(name === "task" ? { task: value, attempt: "" } : { [name]: value });
  const many = tasks.length > 60;
  return (
    <InZone zone={zone}>
      <Trail
        steps={[
          { to: "/workflows", name: "Workflows" },
          { to: `/workflows/${r.workflow}`, name: r.workflow },
        ]}
      />
      <RunHead run={r} />
      <Tabs.Root value={query.get("view") ?? "graph"} onValueChange={(view) => set("view", view)} className="mt-5">
        <div className="mb-3 flex items-center gap-6">
          <TabList label="Views of the run" names={{ graph: "Graph", table: "Table", time: "Time" }} />
          <Counts counts={r.counts ?? {}} words />
        </div>
        <Tabs.Content value="graph" className={`${many ? "h-[26rem]" : "h-64"} overflow-hidden rounded-xl border border-line bg-surface`}>
          <Suspense fallback={<Loading what="the graph" />}>
            <Graph tasks={tasks} chosen={task?.name} onChoose={(task) => set("task", task)} critical={r.ended ? undefined : forecast?.critical} />
          </Suspense>
        </Tabs.Content>
        <Tabs.Content value="table">
          <TaskTable tasks={tasks} chosen={task?.name} onChoose={(task) => set("task", task)} />
        </Tabs.Content>
        <Tabs.Content value="time">
          <TimeAxis run={r} forecast={forecast} chosen={task?.name} onChoose={(task) => set("task", task)} />
        </Tabs.Content>
      </Tabs.Root>
      {chosen && (
        <TaskPanel
          key={chosen.name}
          run={r}
          task={chosen}
          forecast={forecast}
          attempt={Number(query.get("attempt")) || undefined}
          onAttempt={(attempt) => set("attempt", String(attempt))}
          onTask={(task) => set("task", task)}
        />
      )}
    </InZone>
  );
}

/** useItem reads an item, as in range[3]; undefined for what is none. */
function useItem(run: string, name: string): Task | undefined {
  const [, task = "", place = ""] = /^(.+)\[(\d+)\]$/.exec(name) ?? [];
  const page = useQuery({
    queryKey: ["item", run, name],
    enabled: place !== "",
    queryFn: () => call<Items>("GET", itemsPath(run, task, { from: place, limit: 1 })),
  });
  return page.data?.items.find((t) => t.name === name);
}

/** firstOfInterest is the task that a reader most likely came for. */
function firstOfInterest(tasks: Task[]): Task | undefined {
  for (const state of ["failed", "held", "running", "cooling", "waiting", "stopped"]) {
    const found = tasks.find((t) => t.state === state);
    if (found) return found;
  }
  return tasks[0];
}

function RunHead({ run }: { run: Run }) {
  const params = Object.entries(run.params);
  return (
    <div className="flex flex-wrap items-start gap-x-10 gap-y-3">
      <div>
        <h1 className="flex items-center gap-4 text-2xl font-semibold tracking-tight">
          <span>
            {run.id} <CopyButton text={run.id} what="the name of the run" />
          </span>
          <span className="text-base tracking-normal">
            <StateMark state={run.state} strong />
            {run.attention && !run.late && <span className="ml-4 font-medium text-waiting">◇ needs attention</span>}
          </span>
        </h1>
        <p className="mt-1.5 flex flex-wrap gap-x-6 gap-y-1 text-soft">
          {run.window && (
            <span className="text-ink">
              <WindowText window={run.window} />
              {run.newer && (
                <span className="text-soft">
                  , whose data now rests on{" "}
                  <Link to={`/runs/${run.newer}`} className="text-ink hover:underline">
                    {run.newer}
                  </Link>
                </span>
              )}
            </span>
          )}
          <Cause run={run} />
          {run.waits && <span className="text-ink">{run.waits}</span>}
          <span>version {run.version}</span>
          {run.due_by && (
            <span>
              should be done by <Moment at={run.due_by} />
            </span>
          )}
          {run.due && <Due run={run} due={run.due} />}
          {run.started && (
            <span>
              began <Moment at={run.started} />, {run.ended ? "took" : "has taken"} <Took start={run.started} end={run.ended} />
            </span>
          )}
          {run.used && (
            <span>
              used {length(run.used.cpu_seconds * 1000)} of processor{run.used.peak_bytes > 0 && `, at most ${bytes(run.used.peak_bytes)} of memory`}
            </span>
          )}
        </p>
        {run.late && (
          <p className="mt-1 text-waiting">
            ◷ late since <Moment at={run.late.since} />: {run.late.reason}
          </p>
        )}
        {!!run.follow_on?.length && (
          <p className="mt-1 flex flex-wrap gap-x-5">
            {run.follow_on.map((f) => (
              <span key={f.run}>
                <span className="text-soft">then </span>
                <Link to={`/runs/${f.run}`} className="hover:underline">
                  {f.run}
                </Link>{" "}
                <span data-state={f.state === "waiting" ? "waiting" : f.state === "done" ? "succeeded" : "failed"} className="state-colour">
                  {f.state === "waiting" ? "◌ is made again after it" : f.state === "done" ? "● was made again" : `✕ was not made again: ${f.reason ?? ""}`}
                </span>
              </span>
            ))}
          </p>
        )}
        {params.length > 0 && (
          <p className="mt-1 flex flex-wrap gap-x-5 font-mono text-[0.87rem] text-soft">
            {params.map(([name, value]) => (
              <span key={name} className="max-w-2xl truncate" title={valueText(value)}>
                {name}=<span className="text-ink">{valueText(value).slice(0, 400)}</span>
              </span>
            ))}
          </p>
        )}
      </div>
      <div className="ml-auto flex gap-2">
        {(run.tasks ?? []).some((t) => t.ended && ["failed", "unreached", "stopped"].includes(t.state)) && <RerunDialog run={run} how="failed" name="Rerun failed" />}
        {!run.ended && <StopDialog run={run} />}
      </div>
    </div>
  );
}

/** Due tells when the run was due, and how much later its first attempt began. */
function Due({ run, due }: { run: Run; due: string }) {
  const starts = (run.tasks ?? []).flatMap((t) => (t.started ? [Date.parse(t.started)] : []));
  const later = (at: number) => length(at - Date.parse(due));
  const parts = [`made ${later(Date.parse(run.created))} later`];
  if (run.started) parts.push(`begun ${later(Date.parse(run.started))} later`);
  if (starts.length > 0) parts.push(`first attempt ${later(Math.min(...starts))} later`);
  return (
    <span title={parts.join(", ")}>
      due <Moment at={due} />
      {starts.length > 0 && `, first attempt ${later(Math.min(...starts))} later`}
    </span>
  );
}

/** Cause says why there is the run, with a way to the run whose task started it. */
function Cause({ run }: { run: Run }) {
  if (run.cause === "person") return <span>started by {run.caused_by}</span>;
  if (!run.outer) return <span>{`${run.cause}: ${run.caused_by}`}</span>;
  return (
    <span>
      started by {run.caused_by.slice(0, -run.outer.length)}
      <Link to={`/runs/${run.outer}`} className="text-ink hover:underline">
        {run.outer}
      </Link>
    </span>
  );
}

function StopDialog({ run }: { run: Run }) {
  const tasks = run.tasks ?? [];
  const running = tasks.filter((t) => t.state === "running").map((t) => t.name);
  const ahead = tasks.filter((t) => !t.ended && t.state !== "running").length;
  return (
    <ActDialog
      title={`Stop ${run.id}?`}
      about={
        <ul className="list-disc pl-5">
          {running.length > 0 && <li>{running.join(", ")}: running, gets SIGTERM and ten seconds to end</li>}
          <li>{ahead} tasks that have not begun are stopped at once</li>
          <li>what has ended stays as it is</li>
        </ul>
      }
      trigger={
        <Button look="danger">
          <Square size={13} fill="currentColor" /> Stop
        </Button>
      }
      command={`lantern stop ${run.id}`}
      path={`${runPath(run.id)}/stop`}
      body={{}}
      verb="Stop the run"
      look="danger"
      leave="Leave it going"
    />
  );
}

function note(task: Task): string | undefined {
  if (task.stopping) return "is being stopped";
  if (task.waits) return task.waits;
  if (task.items && !task.ended) return itemsText(task.items);
  const before = task.attempts.at(-2);
  if (task.state === "succeeded" && before && before.state !== "succeeded") return `before: ${before.error ?? before.state}`;
  return task.reason ?? (task.items?.count ? itemsText(task.items) : undefined);
}

function TaskTable({ tasks, chosen, onChoose }: { tasks: Task[]; chosen: string | undefined; onChoose: (task: string) => void }) {
  return (
    <Table label="Tasks" heads={["Task", "State", "Attempts", "Started", "Took", "Note"]}>
      {tasks.map((task) => (
        <Row key={task.name} aria-selected={task.name === chosen} className={task.name === chosen ? "bg-raised" : ""}>
          <Cell className="whitespace-nowrap">
            <Link
              to={`?view=table&task=${encodeURIComponent(task.name)}`}
              className="font-medium hover:underline"
              onClick={(event) => {
                event.preventDefault();
                onChoose(task.name);
              }}
            >
              {task.name}
            </Link>
          </Cell>
          <Cell>
            <StateMark state={task.state} />
          </Cell>
          <Cell>{task.attempts.length || <span className="text-soft">–</span>}</Cell>
          <Cell className="whitespace-nowrap">
            <Moment at={task.started} />
          </Cell>
          <Cell className="whitespace-nowrap">
            <Took start={task.started} end={task.ended} />
          </Cell>
          <Cell className="w-full text-soft">
            {note(task)}
            {task.state === "cooling" && task.wakes && (
              <>
                ; again <Until at={task.wakes} />
              </>
            )}
          </Cell>
        </Row>
      ))}
    </Table>
  );
}
