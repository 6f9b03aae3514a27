import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, type Workflow } from "../api/client";
import { useLive } from "../api/live";
import { Command, Empty, Loading, NotShown } from "../parts/notes";
import { Strip } from "../parts/strip";
import { Cell, Row, Table } from "../parts/table";
import { Moment, Until } from "../parts/time";

export function WorkflowsPage() {
  useLive();
  const list = useQuery({ queryKey: ["workflows"], queryFn: () => call<{ workflows: Workflow[] }>("GET", "/workflows") });
  return (
    <>
      <div className="mb-5 flex items-baseline gap-4">
        <h1 className="text-2xl font-semibold tracking-tight">Workflows</h1>
        {list.data && <span className="text-soft">{list.data.workflows.length}</span>}
      </div>
      {list.error && <NotShown error={list.error} what="The workflows cannot be read" />}
      {list.isPending && <Loading what="the workflows" />}
      {list.data?.workflows.length === 0 && (
        <Empty title="No workflows yet">
          Write one to <Command>workflows/NAME.yaml</Command> and apply it with <Command>lantern apply .</Command>
        </Empty>
      )}
      {!!list.data?.workflows.length && (
        <Table label="Workflows" heads={["Workflow", "Owner", "Starts", "Next due", "Runs, newest last"]}>
          {list.data.workflows.map((w) => (
            <Row key={w.name}>
              <Cell className="w-[38%] py-3">
                <Link to={`/workflows/${w.name}`} className="font-medium hover:underline">
                  {w.name}
                </Link>
                <p className="mt-0.5 text-[0.87rem] text-soft">{w.about}</p>
              </Cell>
              <Cell className="whitespace-nowrap text-soft">{w.owner ?? "–"}</Cell>
              <Cell className="max-w-60 text-soft">{w.starts.length ? w.starts.map((s) => <div key={s}>{s}</div>) : "by hand"}</Cell>
              <Cell className="whitespace-nowrap">
                <NextDue workflow={w} />
              </Cell>
              <Cell className="whitespace-nowrap">
                <Strip runs={w.recent} />
              </Cell>
            </Row>
          ))}
        </Table>
      )}
    </>
  );
}

export function NextDue({ workflow }: { workflow: Workflow }) {
  if (workflow.paused) return <span className="text-waiting">◇ paused by {workflow.paused.by}</span>;
  if (!workflow.next) return <span className="text-soft">–</span>;
  return (
    <>
      <Moment at={workflow.next} />
      <div className="text-[0.87rem] text-soft">
        <Until at={workflow.next} />
      </div>
    </>
  );
}
