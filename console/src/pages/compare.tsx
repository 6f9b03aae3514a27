import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { call, runPath, type Comparison, type Run, type State } from "../api/client";
import { Loading, NotShown } from "../parts/notes";
import { Trail } from "../parts/shell";
import { StateMark } from "../parts/state";
import { Cell, Row, Table } from "../parts/table";
import { length, Moment, Took, WindowText } from "../parts/time";
import { Box, Changes } from "./failure";

/** ComparePage sets two runs of a workflow side by side. */
export function ComparePage() {
  const [query] = useSearchParams();
  const a = query.get("a") ?? "";
  const b = query.get("b") ?? "";
  const compared = useQuery({ queryKey: ["compare", a, b], queryFn: () => call<Comparison>("GET", `${runPath(a)}/compare?with=${encodeURIComponent(b)}`) });
  if (compared.error) return <NotShown error={compared.error} what={`${a} and ${b} cannot be compared`} />;
  if (compared.isPending) return <Loading what="both runs" />;
  const c = compared.data;
  const longest = Math.max(0.001, ...c.tasks.flatMap((t) => [t.a_seconds, t.b_seconds]));
  return (
    <>
      <Trail
        steps={[
          { to: "/workflows", name: "Workflows" },
          { to: `/workflows/${c.a.workflow}`, name: c.a.workflow },
        ]}
      />
      <h1 className="mb-1 text-2xl font-semibold tracking-tight">
        {c.a.id} beside {c.b.id}
      </h1>
      <p className="mb-5">
        {c.part ? (
          <>
            They part at <span className="font-semibold text-failed">{c.part}</span>: {c.how}.
          </>
        ) : (
          <span className="text-soft">They nowhere part: each task came out the same, with the same result.</span>
        )}
      </p>
      <div className="mb-5 grid grid-cols-1 gap-5 lg:grid-cols-2">
        <Side run={c.a} />
        <Side run={c.b} />
      </div>
      {c.contrasts.length > 0 && (
        <div className="mb-5">
          <Box title="What they were given differently">
            <Changes changed={c.contrasts} />
          </Box>
        </div>
      )}
      <Table label="Tasks" heads={["Task", c.a.id, "", c.b.id, "", "What differs"]}>
        {c.tasks.map((t) => (
          <Row key={t.name} className={t.name === c.part ? "bg-raised" : ""}>
            <Cell className="font-medium whitespace-nowrap">{t.name}</Cell>
            <TaskSide run={c.a.id} task={t.name} state={t.a_state} seconds={t.a_seconds} longest={longest} />
            <TaskSide run={c.b.id} task={t.name} state={t.b_state} seconds={t.b_seconds} longest={longest} />
            <Cell className="w-full text-[0.87rem]">
              {(t.differs ?? [])
                .filter((d) => d.kind !== "state")
                .map((d, i) => (
                  <div key={i} className="break-words">
                    <span className="text-soft">
                      {d.kind} {d.name !== t.name && d.name?.slice(t.name.length + 1)}
                    </span>{" "}
                    {d.before || "–"} → {d.after || "–"}
                  </div>
                ))}
            </Cell>
          </Row>
        ))}
      </Table>
    </>
  );
}

function Side({ run }: { run: Run }) {
  return (
    <section aria-label={run.id} className="rounded-xl border border-line bg-surface px-4 py-4">
      <h2 className="flex items-center gap-4 font-semibold">
        <Link to={`/runs/${run.id}`} className="hover:underline">
          {run.id}
        </Link>
        <StateMark state={run.state} />
      </h2>
      <p className="mt-1.5 flex flex-wrap gap-x-6 text-soft">
        {run.window && (
          <span className="text-ink">
            <WindowText window={run.window} />
          </span>
        )}
        <span>{run.cause}</span>
        <span>version {run.version}</span>
        <span>
          began <Moment at={run.started} />, took <Took start={run.started} end={run.ended} />
        </span>
      </p>
    </section>
  );
}

function TaskSide({ run, task, state, seconds, longest }: { run: string; task: string; state: string; seconds: number; longest: number }) {
  if (!state)
    return (
      <>
        <Cell className="text-soft">not there</Cell>
        <Cell />
      </>
    );
  return (
    <>
      <Cell>
        <Link to={`/runs/${run}?task=${encodeURIComponent(task)}`} className="hover:underline">
          <StateMark state={state as State} />
        </Link>
      </Cell>
      <Cell className="min-w-32">
        {seconds > 0 && (
          <span className="flex items-center gap-2">
            <span aria-hidden data-state={state} className="state-colour inline-block h-2 rounded-sm bg-current" style={{ width: `${Math.max(2, (seconds / longest) * 72)}px` }} />
            <span className="figures text-[0.87rem] whitespace-nowrap text-soft">{length(seconds * 1000)}</span>
          </span>
        )}
      </Cell>
    </>
  );
}
