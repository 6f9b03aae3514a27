import { useQuery } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { Link, useSearchParams } from "react-router";
import { call, type Upcoming, type UpcomingDays } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { Command, Empty, Loading, NotShown } from "../parts/notes";
import { Cell, Row, Table } from "../parts/table";
import { Moment, Until, windowText } from "../parts/time";

const dayName = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });
const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });

const views = ["week", "list"] as const;

/** UpcomingPage shows what is due in the next seven days, as a week and as a list. */
export function UpcomingPage() {
  useLive(undefined, 5 * gatherLong);
  const [query, setQuery] = useSearchParams();
  return (
    <>
      <div className="mb-5 flex items-baseline gap-4">
        <h1 className="text-2xl font-semibold tracking-tight">Upcoming</h1>
        <span className="text-soft">in the next seven days</span>
      </div>
      <Tabs.Root value={query.get("view") ?? "week"} onValueChange={(view) => setQuery({ view }, { replace: true })}>
        <div className="mb-3 flex items-center gap-6">
          <Tabs.List aria-label="Views of what is due" className="flex gap-1">
            {views.map((name) => (
              <Tabs.Trigger
                key={name}
                value={name}
                className="rounded-lg px-3 py-1.5 font-medium text-soft capitalize hover:text-ink data-[state=active]:bg-raised data-[state=active]:text-ink"
              >
                {name}
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          <span className="text-soft">
            for calendar programs: <Command>lantern upcoming --feed</Command>
          </span>
        </div>
        <Tabs.Content value="week">
          <Week />
        </Tabs.Content>
        <Tabs.Content value="list">
          <List />
        </Tabs.Content>
      </Tabs.Root>
    </>
  );
}

const refetch = { refetchInterval: 60_000 };

function Nothing() {
  return (
    <Empty title="Nothing is due">
      A workflow comes due by itself when it has <Command>starts</Command>, as in <Command>{"starts: [{every: 1h}]"}</Command>
    </Empty>
  );
}

/** Week is a table of workflows by days; each cell says when that day, or how often. */
function Week() {
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const page = useQuery({ queryKey: ["upcoming-days", zone], queryFn: () => call<UpcomingDays>("GET", `/upcoming/days?zone=${encodeURIComponent(zone)}`), ...refetch });
  if (page.error) return <NotShown error={page.error} what="What is due cannot be read" />;
  if (page.isPending) return <Loading what="what is due" />;
  if (page.data.workflows.length === 0) return <Nothing />;
  return (
    <Table label="What is due this week" heads={["Workflow", ...page.data.dates.map((date) => dayName.format(new Date(`${date}T12:00:00`)))]}>
      {page.data.workflows.map((w) => (
        <Row key={w.workflow}>
          <Cell className="whitespace-nowrap">
            <Link to={`/workflows/${w.workflow}`} className="font-medium hover:underline">
              {w.workflow}
            </Link>
            {w.paused && <span className="ml-3 text-waiting">◇ paused</span>}
          </Cell>
          {w.days.map((day, i) => (
            <Cell key={page.data.dates[i]} className="align-top whitespace-nowrap tabular-nums">
              <DayCell day={day} />
            </Cell>
          ))}
        </Row>
      ))}
    </Table>
  );
}

function DayCell({ day }: { day: UpcomingDays["workflows"][number]["days"][number] }) {
  const at = (moment: string) => clock.format(new Date(moment));
  const [first] = day.first ?? [];
  if (!first || !day.last) return <span className="text-soft">–</span>;
  if (day.count <= 3) return <>{day.first?.map((moment) => <div key={moment}>{at(moment)}</div>)}</>;
  return (
    <>
      {day.count}×
      <span className="block text-[0.87rem] text-soft">
        {at(first)}–{at(day.last)}
      </span>
    </>
  );
}

/** List is what is due next, at most a few of each workflow, so that none hides the others. */
function List() {
  const page = useQuery({
    queryKey: ["upcoming"],
    queryFn: () => call<{ upcoming: Upcoming[]; more: boolean }>("GET", "/upcoming?for=7d&limit=12"),
    ...refetch,
  });
  if (page.error) return <NotShown error={page.error} what="What is due cannot be read" />;
  if (page.isPending) return <Loading what="what is due" />;
  if (page.data.upcoming.length === 0) return <Nothing />;
  return (
    <>
      <Table label="What is due" heads={["Workflow", "Due", "", "Window", "Rule"]}>
        {page.data.upcoming.map((d) => (
          <Row key={`${d.workflow} ${d.due} ${d.window?.start}`}>
            <Cell className="whitespace-nowrap">
              <Link to={`/workflows/${d.workflow}`} className="font-medium hover:underline">
                {d.workflow}
              </Link>
            </Cell>
            <Cell className="whitespace-nowrap">
              <Moment at={d.due} />
            </Cell>
            <Cell className="whitespace-nowrap text-soft">{d.paused ? <span className="text-waiting">◇ paused</span> : <Until at={d.due} />}</Cell>
            <Cell className="whitespace-nowrap">{d.window ? windowText(d.window) : <span className="text-soft">–</span>}</Cell>
            <Cell className="w-full text-soft">{d.rule}</Cell>
          </Row>
        ))}
      </Table>
      {page.data.more && <p className="mt-3 text-soft">At most twelve of each workflow are shown.</p>}
    </>
  );
}
