import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { call, type Backfill, type BackfillWindow } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { Command, Empty, Loading, NotShown } from "../parts/notes";
import { Trail } from "../parts/shell";
import { Counts, Glyph, StateMark } from "../parts/state";
import { Cell, Row, Table } from "../parts/table";
import { length, Moment, windowText } from "../parts/time";
import { ActDialog } from "./actions";
import { Button } from "../parts/button";

function range(b: Backfill): string {
  const date = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric", timeZone: b.zone || "UTC" });
  return `${date.format(new Date(b.from))} – ${date.format(new Date(Date.parse(b.until) - 1))}`;
}
const done = (b: Backfill) => b.runs - (b.counts?.["waiting"] ?? 0) - (b.counts?.["running"] ?? 0);

/** BackfillsPage lists the backfills, newest first. */
export function BackfillsPage() {
  useLive();
  const list = useQuery({ queryKey: ["backfills"], queryFn: () => call<{ backfills: Backfill[] }>("GET", "/backfills") });
  return (
    <>
      <h1 className="mb-5 text-2xl font-semibold tracking-tight">Backfills</h1>
      {list.error && <NotShown error={list.error} what="The backfills cannot be read" />}
      {list.isPending && <Loading what="the backfills" />}
      {list.data?.backfills.length === 0 && (
        <Empty title="No backfills yet">
          Work through past windows with <Command>lantern backfill WORKFLOW --from DATE --to DATE --dry-run</Command>
        </Empty>
      )}
      {!!list.data?.backfills.length && (
        <Table label="Backfills" heads={["Backfill", "State", "Range", "Done", "Runs", "By"]}>
          {list.data.backfills.map((b) => (
            <Row key={b.number}>
              <Cell className="whitespace-nowrap">
                <Link to={`/backfills/${b.number}`} className="font-medium hover:underline">
                  {b.number} of {b.workflow}
                </Link>
              </Cell>
              <Cell>
                <BackfillState b={b} />
              </Cell>
              <Cell className="whitespace-nowrap">{range(b)}</Cell>
              <Cell className="w-1/4 min-w-40">
                <Progress b={b} />
              </Cell>
              <Cell>
                <Counts counts={b.counts ?? {}} />
              </Cell>
              <Cell className="text-soft">{b.created_by}</Cell>
            </Row>
          ))}
        </Table>
      )}
    </>
  );
}

function BackfillState({ b, strong }: { b: Backfill; strong?: boolean }) {
  if (b.state === "paused") return <span className="font-medium whitespace-nowrap text-waiting">◇ paused</span>;
  if (b.state === "preview") return null;
  return <StateMark state={b.state} strong={!!strong} />;
}

/** Progress is a bar: what succeeded, what did not, what is going, what waits. */
function Progress({ b }: { b: Backfill }) {
  const parts = (["succeeded", "failed", "stopped", "running"] as const).map((state) => ({ state, n: b.counts?.[state] ?? 0 }));
  return (
    <div role="img" aria-label={`${done(b)} of ${b.runs} done`} className="flex items-center gap-3">
      <div className="flex h-2 grow overflow-hidden rounded-full bg-raised">
        {parts.map(
          ({ state, n }) => n > 0 && <span key={state} data-state={state} className="state-colour bg-current" style={{ width: `${Math.max(0.5, (100 * n) / b.runs)}%` }} />,
        )}
      </div>
      <span className="whitespace-nowrap text-soft tabular-nums">
        {done(b)} of {b.runs}
      </span>
    </div>
  );
}

/** BackfillPage shows how far a backfill has come, on a calendar of its windows, and what to do about it. */
export function BackfillPage() {
  const { number = "" } = useParams();
  useLive(undefined, gatherLong);
  const shown = useQuery({ queryKey: ["backfill", number], queryFn: () => call<Backfill>("GET", `/backfills/${number}`) });
  const windows = useQuery({
    queryKey: ["backfill-windows", number],
    queryFn: () => call<{ windows: BackfillWindow[]; next?: number }>("GET", `/backfills/${number}/windows?limit=${most}`),
  });
  if (shown.error) return <NotShown error={shown.error} what={`The backfill ${number} cannot be shown`} />;
  if (shown.isPending) return <Loading what={`backfill ${number}`} />;
  const b = shown.data;
  const act = (word: string, verb: string, about: string, look: "lamp" | "danger" = "lamp") => (
    <ActDialog
      title={`${verb} backfill ${b.number}?`}
      about={<p>{about}</p>}
      trigger={<Button look={look === "danger" ? "danger" : "plain"}>{verb}</Button>}
      command={`lantern backfills ${b.number} --${word}`}
      path={`/backfills/${b.number}/direct`}
      body={{ word }}
      verb={verb}
      look={look}
      leave="Leave it as it is"
    />
  );
  const badly = (b.counts?.["failed"] ?? 0) + (b.counts?.["stopped"] ?? 0);
  return (
    <>
      <Trail steps={[{ to: "/backfills", name: "Backfills" }]} />
      <div className="flex flex-wrap items-start gap-x-10 gap-y-3">
        <div>
          <h1 className="flex items-center gap-4 text-2xl font-semibold tracking-tight">
            Backfill {b.number} of {b.workflow}
            <span className="text-base tracking-normal">
              <BackfillState b={b} strong />
            </span>
          </h1>
          <p className="mt-1.5 flex flex-wrap gap-x-6 gap-y-1 text-soft">
            <span className="text-ink">{range(b)}</span>
            <span>
              {b.only} windows, the {b.order} first
            </span>
            <span>{b.at_once ? `${b.at_once} at once` : "after all others"}</span>
            <span>
              by {b.created_by}, <Moment at={b.created} />
            </span>
          </p>
        </div>
        <div className="ml-auto flex gap-2">
          {b.state === "running" && act("pause", "Pause", "No more runs of it are opened; those that are going go on.")}
          {b.state === "paused" && act("resume", "Resume", "It goes on with the windows that wait.")}
          {badly > 0 && act("retry", "Retry failed", `The ${badly} windows that did not succeed get new runs, on the current version of the workflow.`)}
          {!b.ended && act("stop", "Stop", "Its runs are stopped, and the windows that wait get none.", "danger")}
        </div>
      </div>
      {b.reason && <p className="mt-4 rounded-xl border border-line bg-surface px-5 py-2.5 text-waiting">{b.reason}</p>}
      <div className="mt-5 rounded-xl border border-line bg-surface px-5 py-4">
        <Progress b={b} />
        <p className="mt-2 flex flex-wrap gap-x-6 text-soft">
          <Counts counts={b.counts ?? {}} words />
          {!!b.per_hour && b.state === "running" && <span>{Math.round(b.per_hour)} runs an hour</span>}
          {!!b.left_seconds && <span>done in about {length(b.left_seconds * 1000)}</span>}
          {b.ended && b.created && <span>took {length(Date.parse(b.ended) - Date.parse(b.created))}</span>}
        </p>
      </div>
      {windows.error && <NotShown error={windows.error} what="The windows cannot be read" />}
      {windows.data && <Calendar windows={windows.data.windows} zone={b.zone} />}
      {windows.data?.next && <p className="mt-3 text-soft">The first {most} are shown.</p>}
    </>
  );
}

const most = 5000;

/** grids say what a row of the calendar is, and its columns, by how long the windows are. */
const grids = [
  { upTo: 0.99, row: { weekday: "short", day: "2-digit", month: "short", year: "numeric" }, column: null, from: 0, columns: 0 },
  { upTo: 20, row: { weekday: "short", day: "2-digit", month: "short", year: "numeric" }, column: { hour: "2-digit", hourCycle: "h23" }, from: 0, columns: 24 },
  { upTo: 24 * 5, row: { month: "long", year: "numeric" }, column: { day: "numeric" }, from: 1, columns: 31 },
  { upTo: Infinity, row: { year: "numeric" }, column: null, from: 0, columns: 0 },
] as const;

/** Calendar draws each window as a cell, with its state: days by hours, months by days, or years. */
function Calendar({ windows, zone: given }: { windows: BackfillWindow[]; zone: string }) {
  const [first] = windows;
  if (!first) return null;
  const timeZone = given || "UTC";
  const hours = (Date.parse(first.window.end) - Date.parse(first.window.start)) / 3_600_000;
  const grid = grids.find((g) => hours <= g.upTo) ?? grids[3];
  const rowOf = new Intl.DateTimeFormat("en-GB", { ...grid.row, timeZone });
  const columnOf = grid.column && new Intl.DateTimeFormat("en-GB", { ...grid.column, timeZone });
  const rows = new Map<string, BackfillWindow[]>();
  for (const w of [...windows].sort((a, b) => a.window.start.localeCompare(b.window.start))) {
    const row = rowOf.format(new Date(w.window.start));
    rows.set(row, [...(rows.get(row) ?? []), w]);
  }
  return (
    <div role="table" aria-label="Windows" className="mt-5 overflow-x-auto rounded-xl border border-line bg-surface px-5 py-4">
      {columnOf && (
        <div aria-hidden className="flex gap-4 pb-1 text-[0.75rem] text-soft tabular-nums">
          <span className="w-40 shrink-0" />
          <span className="flex gap-1">
            {Array.from({ length: grid.columns }, (_, i) => (
              <span key={i} className="w-6 text-center">
                {grid.from + i}
              </span>
            ))}
          </span>
        </div>
      )}
      {[...rows].map(([name, cells]) => (
        <div role="row" key={name} className="flex items-center gap-4 py-0.5">
          <span role="rowheader" className="w-40 shrink-0 text-soft tabular-nums">
            {name}
          </span>
          <span className={columnOf ? "grid gap-1" : "flex flex-wrap gap-1"} style={columnOf ? { gridTemplateColumns: `repeat(${grid.columns}, 1.5rem)` } : undefined}>
            {cells.map((w) => (
              <WindowCell key={w.place} w={w} column={columnOf ? Number(columnOf.format(new Date(w.window.start))) - grid.from + 1 : undefined} />
            ))}
          </span>
        </div>
      ))}
    </div>
  );
}

function WindowCell({ w, column }: { w: BackfillWindow; column: number | undefined }) {
  const style = column ? { gridColumn: column } : undefined;
  const text = `${windowText(w.window)}${w.windows > 1 ? `, ${w.windows} windows` : ""}: ${w.state}${w.run ? `, ${w.run}` : ""}`;
  const look = "inline-flex size-6 items-center justify-center rounded-md bg-raised text-[0.8rem]";
  if (!w.run) {
    return (
      <span role="cell" title={text} aria-label={text} className={look} style={style}>
        <Glyph state={w.state === "waiting" ? "idle" : w.state} />
      </span>
    );
  }
  return (
    <span role="cell" style={style}>
      <Link to={`/runs/${w.run}`} title={text} aria-label={text} className={`${look} hover:outline hover:outline-line`}>
        <Glyph state={w.state} />
      </Link>
    </span>
  );
}
