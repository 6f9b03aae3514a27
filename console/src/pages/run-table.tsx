import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, type Run } from "../api/client";
import { Button } from "../parts/button";
import { Command, Empty, Loading, Trouble } from "../parts/notes";
import { Counts, StateMark } from "../parts/state";
import { Cell, Row, Table } from "../parts/table";
import { Moment, Took, windowText } from "../parts/time";

type Page = { runs: Run[]; next?: string };

/** RunTable lists runs, newest first, of one workflow or of all, in a state or in any. */
export function RunTable({ workflow, state }: { workflow?: string; state?: string | undefined }) {
  const pages = useInfiniteQuery({
    queryKey: ["runs", workflow, state],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const query = new URLSearchParams({ limit: "50" });
      if (workflow) query.set("workflow", workflow);
      if (state) query.set("state", state);
      if (pageParam) query.set("before", pageParam);
      return call<Page>("GET", `/runs?${query}`);
    },
    getNextPageParam: (page) => page.next ?? null,
  });
  if (pages.error) return <Trouble error={pages.error} what="The runs cannot be read" />;
  if (pages.isPending) return <Loading what="the runs" />;
  const runs = pages.data.pages.flatMap((page) => page.runs);
  if (runs.length === 0) {
    return (
      <Empty title={state ? `No run is ${state}` : "No runs yet"}>
        {!state && (
          <>
            Start one here, or with <Command>{`lantern start ${workflow ?? "WORKFLOW"}`}</Command>
          </>
        )}
      </Empty>
    );
  }
  return (
    <>
      <Table label="Runs" heads={["Run", "State", "Window", "Cause", "Started", "Took", "Tasks"]}>
        {runs.map((run) => (
          <Row key={run.id}>
            <Cell className="whitespace-nowrap">
              <Link to={`/runs/${run.id}`} className="font-medium hover:underline">
                {run.id}
              </Link>
            </Cell>
            <Cell>
              <StateMark state={run.state} />
            </Cell>
            <Cell className="whitespace-nowrap">{run.window ? windowText(run.window) : <span className="text-soft">–</span>}</Cell>
            <Cell className="whitespace-nowrap text-soft">{run.cause === "person" ? run.caused_by : run.cause}</Cell>
            <Cell className="whitespace-nowrap">
              <Moment at={run.started} />
            </Cell>
            <Cell className="whitespace-nowrap">
              <Took start={run.started} end={run.ended} />
            </Cell>
            <Cell>
              <Counts counts={run.counts ?? {}} />
            </Cell>
          </Row>
        ))}
      </Table>
      {pages.hasNextPage && (
        <Button className="mt-4 self-center" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Older runs
        </Button>
      )}
    </>
  );
}
