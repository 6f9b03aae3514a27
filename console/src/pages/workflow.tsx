import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Pause, SkipForward } from "lucide-react";
import { lazy, Suspense } from "react";
import { useParams } from "react-router";
import { call, type Decision, type Forecast, type Task, type Watermark, type Workflow, workflowPath } from "../api/client";
import { useLive } from "../api/live";
import { Button } from "../parts/button";
import { Fact } from "../parts/fact";
import { Loading, NotShown } from "../parts/notes";
import { Trail } from "../parts/shell";
import { InZone, length, Moment, windowText } from "../parts/time";
import { Logbook } from "./logbook";
import { StartDialog } from "./start-dialog";
import { valueText } from "./items";
import { NextDue } from "./workflows";

const Graph = lazy(() => import("../graph/graph"));

export function WorkflowPage() {
  const { name = "" } = useParams();
  useLive();
  const workflow = useQuery({ queryKey: ["workflow", name], queryFn: () => call<Workflow>("GET", workflowPath(name)) });
  if (workflow.error) return <NotShown error={workflow.error} what={`The workflow ${name} cannot be shown`} />;
  if (workflow.isPending) return <Loading what={name} />;
  const w = workflow.data;
  const actions = (w.definition?.resources ?? []).flatMap((r) => [r.open, r.close]);
  const tasks: Task[] = [...(w.definition?.tasks ?? []), ...actions].map((t) => ({
    name: t.name,
    kind: t.for_each ? `${t.kind} for each` : t.kind,
    after: (t.after ?? []).map((d) => ({ task: d.task, expect: d.expect.join("|") })),
    ...(t.within && { within: t.within }),
    state: "idle",
    attempts: [],
  }));
  for (const name of new Set(tasks.flatMap((t) => t.after.map((a) => a.task)))) {
    if (!tasks.some((t) => t.name === name)) tasks.push({ name, kind: "in the run before", after: [], state: "idle", attempts: [] });
  }
  return (
    <InZone zone={w.definition?.starts?.[0]?.zone}>
      <Trail steps={[{ to: "/workflows", name: "Workflows" }]} />
      <div className="flex flex-wrap items-start gap-4">
        <div>
          <h1 className="text-2xl font-semibold tracking-tight">{w.name}</h1>
          <p className="mt-1 max-w-3xl text-soft">{w.about}</p>
        </div>
        <div className="ml-auto flex gap-2">
          <PauseButton workflow={w} />
          <StartDialog workflow={w.name} params={w.definition?.params ?? []} />
        </div>
      </div>
      <dl className="mt-5 mb-6 flex flex-wrap gap-x-12 gap-y-3">
        <Fact name="Owner">{w.owner ?? "–"}</Fact>
        <Fact name="Starts">{w.starts.length ? w.starts.join("; ") : "by hand"}</Fact>
        <Fact name="Next due">
          <NextDue workflow={w} />
        </Fact>
        <UsualFact workflow={w} />
        <Fact name="Version">
          {w.version}
          <div className="text-[0.87rem] text-soft">
            applied <Moment at={w.applied} /> by {w.applied_by}
          </div>
        </Fact>
        {w.labels.length > 0 && <Fact name="Labels">{w.labels.join(", ")}</Fact>}
        {(w.definition?.watermarks ?? []).length > 0 && <Watermarks workflow={w.name} />}
      </dl>
      <Decisions workflow={w.name} />
      <section aria-label="Graph" className="mb-8 h-64 overflow-hidden rounded-xl border border-line bg-surface">
        <Suspense fallback={<Loading what="the graph" />}>
          <Graph tasks={tasks} quiet />
        </Suspense>
      </section>
      <Logbook workflow={w.name} title={<h2 className="text-lg font-semibold">Logbook</h2>} />
    </InZone>
  );
}

/** Watermarks are the values that the workflow keeps, as they are now. */
function Watermarks({ workflow }: { workflow: string }) {
  const list = useQuery({ queryKey: ["watermarks", workflow], queryFn: () => call<{ watermarks: Watermark[] }>("GET", `${workflowPath(workflow)}/watermarks`) });
  return (
    <>
      {list.data?.watermarks.map((m) => (
        <Fact key={m.name} name={`Watermark ${m.name}`}>
          <span title={m.about}>{m.value === null ? "–" : valueText(m.value)}</span>
          <div className="text-[0.87rem] text-soft">{m.run ? `set by ${m.run}` : m.person ? `set by ${m.person}` : "initial"}</div>
        </Fact>
      ))}
    </>
  );
}

/** UsualFact tells how long runs usually take, and by when they should be done. */
function UsualFact({ workflow: w }: { workflow: Workflow }) {
  const usual = useQuery({ queryKey: ["usual", w.name], queryFn: () => call<Forecast>("GET", `${workflowPath(w.name)}/usual`) }).data?.run;
  const dueBy = w.definition?.due_by;
  if (!usual && !dueBy) return null;
  const text = (s: number) => length(s * 1000);
  return (
    <Fact name="Usually takes">
      {usual ? text(usual.median_seconds) : "–"}
      <div className="text-[0.87rem] text-soft">
        {usual && `${text(usual.shortest_seconds)} to ${text(usual.longest_seconds)}`}
        {dueBy && `${usual ? "; " : ""}should be done ${dueBy.includes(":") ? "by" : "within"} ${dueBy}`}
      </div>
    </Fact>
  );
}

/** Decisions tells the newest due windows that got no run, and why. */
function Decisions({ workflow }: { workflow: string }) {
  const list = useQuery({ queryKey: ["decisions", workflow], queryFn: () => call<{ decisions: Decision[] }>("GET", `${workflowPath(workflow)}/decisions?limit=3`) });
  if (!list.data?.decisions.length) return null;
  return (
    <section aria-label="Due windows without a run" className="mb-6 rounded-xl border border-line bg-surface px-5 py-3">
      <h2 className="text-[0.8rem] text-soft">Due windows without a run, newest first</h2>
      {list.data.decisions.map((d) => (
        <p key={`${d.at} ${d.first_due}`} className="mt-1">
          {d.count === 1 ? "1 window" : `${d.count} windows`}
          {d.window && `, ${windowText(d.window)}`}: <span className="text-soft">{d.reason}</span>
        </p>
      ))}
    </section>
  );
}

function PauseButton({ workflow }: { workflow: Workflow }) {
  const queries = useQueryClient();
  const verb = workflow.paused ? "resume" : "pause";
  const change = useMutation({
    mutationFn: () => call("POST", `${workflowPath(workflow.name)}/${verb}`),
    onSettled: () => queries.invalidateQueries(),
  });
  if (workflow.starts.length === 0 && !workflow.paused) return null;
  const about = workflow.paused
    ? "Go on; a run is made for each window that came due meanwhile"
    : "Make no runs until it is resumed; what comes due meanwhile is remembered";
  return (
    <Button title={about} disabled={change.isPending} onClick={() => change.mutate()}>
      {workflow.paused ? <SkipForward size={15} /> : <Pause size={15} />}
      {workflow.paused ? "Resume" : "Pause"}
    </Button>
  );
}
