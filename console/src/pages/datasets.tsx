import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { call, type Dataset, type Update } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { Command, Empty, Loading, NotShown } from "../parts/notes";
import { Trail } from "../parts/shell";
import { Cell, Row, Table } from "../parts/table";
import { Moment, Took, windowText } from "../parts/time";

const useDatasets = () => useQuery({ queryKey: ["datasets"], queryFn: () => call<{ datasets: Dataset[] }>("GET", "/datasets") });

/** DatasetsPage lists the data sets and how fresh they are. */
export function DatasetsPage() {
  useLive(undefined, gatherLong);
  const list = useDatasets();
  return (
    <>
      <h1 className="mb-5 text-2xl font-semibold tracking-tight">Data sets</h1>
      {list.error && <NotShown error={list.error} what="The data sets cannot be read" />}
      {list.isPending && <Loading what="the data sets" />}
      {list.data?.datasets.length === 0 && (
        <Empty title="No data sets yet">
          A task that makes one says so: <Command>updates: [readings/clean]</Command>
        </Empty>
      )}
      {!!list.data?.datasets.length && (
        <Table label="Data sets" heads={["Data set", "Updated", "Fresh", "In 24 h", "By", "Used by"]}>
          {list.data.datasets.map((d) => (
            <Row key={d.name}>
              <Cell>
                <Link to={`/datasets/${d.name}`} className="font-medium whitespace-nowrap hover:underline">
                  {d.name}
                </Link>
                {d.about && <div className="text-[0.87rem] text-soft">{d.about}</div>}
              </Cell>
              <Cell className="whitespace-nowrap">{d.newest ? <Moment at={d.newest.at} /> : <span className="text-soft">never</span>}</Cell>
              <Cell className="whitespace-nowrap">
                <Fresh d={d} />
              </Cell>
              <Cell className="tabular-nums">{d.day || <span className="text-soft">–</span>}</Cell>
              <Cell>{d.updated_by.join(", ") || d.newest?.source || <span className="text-soft">nobody here</span>}</Cell>
              <Cell>{d.used_by.length ? <Workflows names={d.used_by} /> : <span className="text-soft">–</span>}</Cell>
            </Row>
          ))}
        </Table>
      )}
    </>
  );
}

function Workflows({ names }: { names: string[] }) {
  return (
    <span className="flex flex-wrap gap-x-3">
      {names.map((name) => (
        <Link key={name} to={`/workflows/${name}`} className="hover:underline">
          {name}
        </Link>
      ))}
    </span>
  );
}

function Fresh({ d }: { d: Dataset }) {
  if (!d.fresh_within) return <span className="text-soft">–</span>;
  if (d.late && d.late_since)
    return (
      <span data-state="failed" className="state-colour">
        ✕ late for <Took start={d.late_since} />
      </span>
    );
  return (
    <span data-state="succeeded" className="state-colour">
      ● fresh <span className="text-soft">within {d.fresh_within}</span>
    </span>
  );
}

/** DatasetPage is the history of one data set. */
export function DatasetPage() {
  const { "*": name = "" } = useParams();
  useLive(undefined, gatherLong);
  const list = useDatasets();
  const page = useQuery({ queryKey: ["updates", name], queryFn: () => call<{ updates: Update[]; next?: string }>("GET", `/updates?dataset=${encodeURIComponent(name)}&limit=100`) });
  const d = list.data?.datasets.find((d) => d.name === name);
  return (
    <>
      <Trail steps={[{ to: "/datasets", name: "Data sets" }]} />
      <div className="mb-5">
        <h1 className="flex items-center gap-4 text-2xl font-semibold tracking-tight">
          {name}
          {d && (
            <span className="text-base font-medium tracking-normal">
              <Fresh d={d} />
            </span>
          )}
        </h1>
        {d && (
          <p className="mt-1.5 flex flex-wrap gap-x-6 text-soft">
            {d.about && <span className="text-ink">{d.about}</span>}
            {d.updated_by.length > 0 && <span>updated by {d.updated_by.join(", ")}</span>}
            {d.used_by.length > 0 && (
              <span className="flex gap-1.5">
                used by <Workflows names={d.used_by} />
              </span>
            )}
          </p>
        )}
      </div>
      {page.error && <NotShown error={page.error} what={`The history of ${name} cannot be read`} />}
      {page.isPending && <Loading what="its history" />}
      {page.data?.updates.length === 0 && <Empty title="It was never updated">Whoever waits for it goes on waiting.</Empty>}
      {!!page.data?.updates.length && (
        <Table label="Updates" heads={["Updated", "By", "For", "It says", "Used by"]}>
          {page.data.updates.map((u) => (
            <Row key={u.number}>
              <Cell className="whitespace-nowrap">
                <Moment at={u.at} />
              </Cell>
              <Cell className="whitespace-nowrap">
                {u.run ? (
                  <>
                    <span className="text-soft">{u.task} of </span>
                    <Link to={`/runs/${u.run}?task=${encodeURIComponent(u.task ?? "")}`} className="hover:underline">
                      {u.run}
                    </Link>
                  </>
                ) : (
                  u.source
                )}
              </Cell>
              <Cell className="whitespace-nowrap">{u.window ? windowText(u.window) : <span className="text-soft">–</span>}</Cell>
              <Cell className="max-w-md truncate font-mono text-[0.87rem]" title={JSON.stringify(u.info)}>
                {u.info && Object.keys(u.info as object).length > 0 ? JSON.stringify(u.info) : <span className="text-soft">–</span>}
              </Cell>
              <Cell>
                <span className="flex flex-wrap gap-x-3">
                  {(u.uses ?? []).slice(0, 4).map((use, i) => (
                    <Link key={i} to={`/runs/${use.run}`} className="whitespace-nowrap hover:underline">
                      {use.run}
                    </Link>
                  ))}
                  {(u.uses?.length ?? 0) > 4 && <span className="text-soft">and {(u.uses?.length ?? 0) - 4} more</span>}
                  {!u.uses?.length && <span className="text-soft">–</span>}
                </span>
              </Cell>
            </Row>
          ))}
        </Table>
      )}
    </>
  );
}
