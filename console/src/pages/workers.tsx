import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, type Capacity, type Usage, type Workers } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { Command, Empty, Loading, NotShown } from "../parts/notes";
import { Glyph } from "../parts/state";
import { Cell, Row, Table } from "../parts/table";
import { length, Moment, Took } from "../parts/time";
import { bytes } from "./task-facts";

/** WorkersPage is who is there and what they do, what capacities are in use, and what workflows use. */
export function WorkersPage() {
  useLive(undefined, gatherLong);
  const workers = useQuery({ queryKey: ["workers"], queryFn: () => call<Workers>("GET", "/workers") });
  const capacities = useQuery({ queryKey: ["capacities"], queryFn: () => call<{ capacities: Capacity[] }>("GET", "/capacities") });
  const usage = useQuery({ queryKey: ["usage"], queryFn: () => call<Usage>("GET", "/usage") });
  if (workers.error) return <NotShown error={workers.error} what="The workers cannot be read" />;
  if (workers.isPending) return <Loading what="the workers" />;
  const doing = workers.data.workers.flatMap((w) => w.does.map((d) => ({ ...d, worker: w.name })));
  const used = (usage.data?.workflows ?? []).filter((w) => w.weeks.some((week) => week.runs > 0));
  return (
    <>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Workers</h1>
      {workers.data.workers.length === 0 ? (
        <Empty title="There is no worker">What is ready waits for one.</Empty>
      ) : (
        <Table label="Workers" heads={["Worker", "Takes from", "Slots in use", "Load", "Memory", "There since", "Last heard"]}>
          {workers.data.workers.map((w) => (
            <Row key={`${w.name} ${w.since}`}>
              <Cell className="font-medium">{w.name}</Cell>
              <Cell>
                {(w.queues ?? []).join(", ")}
                {Object.entries(w.labels ?? {}).map(([name, value]) => (
                  <span key={name} className="block text-sm text-soft">
                    {name} {value}
                  </span>
                ))}
              </Cell>
              <Cell>
                <Bar part={w.does.length} whole={w.slots} />
              </Cell>
              <Cell className="figures whitespace-nowrap">
                {w.load.toFixed(2)} <span className="text-soft">on {w.cpus} processors</span>
              </Cell>
              <Cell className="figures whitespace-nowrap">
                {bytes(w.memory_bytes)} <span className="text-soft">of {bytes(w.memory_total_bytes)}</span>
              </Cell>
              <Cell className="whitespace-nowrap">
                <Moment at={w.since} />
              </Cell>
              <Cell className="whitespace-nowrap">
                {w.silent ? (
                  <span className="text-failed">
                    silent since <Moment at={w.heard} />
                  </span>
                ) : (
                  <Moment at={w.heard} />
                )}
                {w.draining && <span className="block text-sm text-waiting">drains: it takes no more tasks</span>}
              </Cell>
            </Row>
          ))}
        </Table>
      )}
      {workers.data.ready > 0 && (
        <p className="mt-3 text-ready">
          ◔ {workers.data.ready} {workers.data.ready === 1 ? "attempt is" : "attempts are"} ready and {workers.data.ready === 1 ? "waits" : "wait"} for a slot or for capacity.
        </p>
      )}
      <h2 className="mt-7 mb-3 text-lg font-semibold">What they do</h2>
      {doing.length === 0 ? (
        <p className="text-soft">Nothing just now.</p>
      ) : (
        <Table label="What they do" heads={["Run", "Task", "Attempt", "Worker", "For"]}>
          {doing.map((d) => (
            <Row key={`${d.run} ${d.task} ${d.attempt}`}>
              <Cell>
                <Link to={`/runs/${d.run}?task=${encodeURIComponent(d.task)}`} className="inline-flex items-center gap-2 font-medium hover:underline">
                  <Glyph state="running" /> {d.run}
                </Link>
              </Cell>
              <Cell>{d.task}</Cell>
              <Cell>{d.attempt}</Cell>
              <Cell className="text-soft">{d.worker}</Cell>
              <Cell>
                <Took start={d.started} />
              </Cell>
            </Row>
          ))}
        </Table>
      )}
      <h2 className="mt-7 mb-3 text-lg font-semibold">Capacities</h2>
      {capacities.data?.capacities.length === 0 ? (
        <p className="text-soft">
          None. A task takes of one with <Command>{"takes: {warehouse: 1}"}</Command>
        </p>
      ) : (
        <Table label="Capacities" heads={["Capacity", "Units in use", "Waiting for it", ""]}>
          {(capacities.data?.capacities ?? []).map((c) => (
            <Row key={c.name}>
              <Cell className="font-medium">{c.name}</Cell>
              <Cell>
                <Bar part={c.in_use} whole={c.units} />
              </Cell>
              <Cell className="figures">{c.waiting || <span className="text-soft">–</span>}</Cell>
              <Cell className="w-full text-waiting">{!c.set && `nobody has set it: lantern capacity set ${c.name} UNITS`}</Cell>
            </Row>
          ))}
        </Table>
      )}
      {usage.data && used.length > 0 && (
        <>
          <h2 className="mt-7 mb-3 text-lg font-semibold">What workflows used</h2>
          <Table label="What workflows used" heads={["Workflow", ...usage.data.weeks.map((w) => `Week of ${new Date(w).toLocaleDateString("en-GB", { day: "numeric", month: "short", timeZone: "UTC" })}`), "Most memory"]}>
            {used.slice(0, 50).map((w) => (
              <Row key={w.workflow}>
                <Cell>
                  <Link to={`/workflows/${w.workflow}`} className="font-medium hover:underline">
                    {w.workflow}
                  </Link>
                </Cell>
                {w.weeks.map((week, i) => (
                  <Cell key={i} className="figures whitespace-nowrap">
                    {week.runs > 0 ? (
                      <>
                        {length(week.cpu_seconds * 1000)} <span className="text-soft">in {week.runs === 1 ? "1 run" : `${week.runs} runs`}</span>
                        {week.price ? `, ${week.price.toFixed(2)}` : ""}
                      </>
                    ) : (
                      <span className="text-soft">–</span>
                    )}
                  </Cell>
                ))}
                <Cell className="figures whitespace-nowrap">{Math.max(...w.weeks.map((week) => week.peak_bytes)) > 0 ? bytes(Math.max(...w.weeks.map((week) => week.peak_bytes))) : <span className="text-soft">–</span>}</Cell>
              </Row>
            ))}
          </Table>
          <p className="mt-2 text-[0.87rem] text-soft">Processor time of all attempts, as the operating system tells it{usage.data.per_hour ? `; an hour of it costs ${usage.data.per_hour}` : ""}.</p>
        </>
      )}
    </>
  );
}

/** Bar is how much of something is in use. */
function Bar({ part, whole }: { part: number; whole: number }) {
  return (
    <span className="flex items-center gap-3">
      <span aria-hidden className="h-2 w-28 overflow-hidden rounded-full bg-raised">
        <span className="block h-full rounded-full bg-lamp" style={{ width: `${whole ? Math.min(100, (100 * part) / whole) : 0}%` }} />
      </span>
      <span className="figures whitespace-nowrap">
        {part} <span className="text-soft">of {whole}</span>
      </span>
    </span>
  );
}
