import { useQuery } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { Fragment } from "react";
import { Link } from "react-router";
import { call, type Event, type EventAnswer } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { useAddress } from "../parts/address";
import { Button } from "../parts/button";
import { Command, Empty, Loading, NotShown } from "../parts/notes";
import { Cell, Row, Table } from "../parts/table";
import { TabList } from "../parts/tabs";
import { Moment } from "../parts/time";
import { WaitList } from "./awaited";

const tabs = { came: "Came in", awaited: "Awaited", refused: "Refused" } as const;

/** EventsPage is what came in, what it was taken for, what is awaited, and what was refused. */
export function EventsPage() {
  useLive(undefined, gatherLong);
  const [query, set] = useAddress();
  const tab = query.get("tab") ?? "came";
  return (
    <>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Events</h1>
      <Tabs.Root value={tab} onValueChange={(tab) => set({ tab, before: "", open: "" })}>
        <TabList label="Events" names={tabs} className="mb-4" />
        <Tabs.Content value="came">
          <Came query={query} set={set} />
        </Tabs.Content>
        <Tabs.Content value="awaited">
          <WaitList />
        </Tabs.Content>
        <Tabs.Content value="refused">
          <Refused />
        </Tabs.Content>
      </Tabs.Root>
    </>
  );
}

function Came({ query, set }: { query: URLSearchParams; set: (change: Record<string, string>) => void }) {
  const kind = query.get("type") ?? "";
  const which = query.get("which") ?? "";
  const before = query.get("before") ?? "";
  const open = query.get("open") ?? "";
  const asked = new URLSearchParams({ type: kind, before, limit: "50" });
  if (which === "unwanted") asked.set("unwanted", "true");
  if (which === "own") asked.set("own", "true");
  const page = useQuery({ queryKey: ["events", kind, which, before], queryFn: () => call<{ events: Event[]; next?: string }>("GET", `/events?${asked}`), placeholderData: (last) => last });
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2">
          <span className="text-soft">Type</span>
          <input
            defaultValue={kind}
            placeholder="storm.*"
            spellCheck={false}
            onKeyDown={(event) => event.key === "Enter" && set({ type: event.currentTarget.value.trim(), before: "" })}
            onBlur={(event) => set({ type: event.currentTarget.value.trim(), before: "" })}
            className="h-9 w-56 rounded-lg border border-line bg-surface px-3 font-mono text-[0.9rem]"
          />
        </label>
        <div role="group" aria-label="Which events" className="flex gap-1">
          {(
            [
              ["", "From outside"],
              ["unwanted", "Nobody wanted"],
              ["own", "With our own"],
            ] as const
          ).map(([value, name]) => (
            <button
              key={value}
              type="button"
              aria-pressed={which === value}
              onClick={() => set({ which: value, before: "" })}
              className="h-9 rounded-lg px-3 text-soft hover:text-ink aria-pressed:bg-raised aria-pressed:text-ink"
            >
              {name}
            </button>
          ))}
        </div>
      </div>
      {page.error && <NotShown error={page.error} what="The events cannot be read" />}
      {page.isPending && <Loading what="the events" />}
      {page.data?.events.length === 0 && (
        <Empty title={kind || which ? "No event is like that" : "No event has come yet"}>
          Send one with <Command>lantern event send TYPE --data '…'</Command>, or make an address for others with <Command>lantern hook add NAME</Command>
        </Empty>
      )}
      {!!page.data?.events.length && (
        <Table label="Events" heads={["Event", "Came", "Type", "Subject", "By", "Was taken for"]}>
          {page.data.events.map((e) => (
            <Fragment key={e.number}>
              <Row className={open === String(e.number) ? "bg-raised" : ""}>
                <Cell>
                  <button
                    type="button"
                    aria-expanded={open === String(e.number)}
                    onClick={() => set({ open: open === String(e.number) ? "" : String(e.number) })}
                    className="font-medium tabular-nums hover:underline"
                  >
                    {e.number}
                  </button>
                </Cell>
                <Cell className="whitespace-nowrap">
                  <Moment at={e.received} />
                </Cell>
                <Cell className="font-mono text-[0.87rem] whitespace-nowrap">{e.type}</Cell>
                <Cell className="max-w-72 truncate" title={e.subject ?? ""}>
                  {e.subject ?? <span className="text-soft">–</span>}
                </Cell>
                <Cell className="whitespace-nowrap text-soft">{e.via}</Cell>
                <Cell className="w-full">
                  <Answers answers={e.answers} />
                </Cell>
              </Row>
              {open === String(e.number) && (
                <tr className="border-b border-line/70">
                  <td colSpan={6} className="px-4 pt-1 pb-4">
                    <pre className="max-h-96 overflow-auto rounded-lg bg-ground p-4 font-mono text-[0.85rem]">{JSON.stringify(e.event, null, 2)}</pre>
                  </td>
                </tr>
              )}
            </Fragment>
          ))}
        </Table>
      )}
      <div className="mt-3 flex gap-2">
        {before && <Button onClick={() => set({ before: "" })}>Newest</Button>}
        {page.data?.next && <Button onClick={() => set({ before: page.data.next ?? "" })}>Older</Button>}
      </div>
    </>
  );
}

const most = 4;

function Answers({ answers }: { answers: EventAnswer[] }) {
  if (answers.length === 0) return <span className="text-soft">nobody wanted it</span>;
  return (
    <span className="flex flex-wrap gap-x-4 gap-y-1">
      {answers.slice(0, most).map((a, i) => (
        <Answer key={i} answer={a} />
      ))}
      {answers.length > most && <span className="text-soft">and {answers.length - most} more</span>}
    </span>
  );
}

function Answer({ answer: a }: { answer: EventAnswer }) {
  const to = a.run && (
    <Link to={`/runs/${a.run}${a.task ? `?task=${encodeURIComponent(a.task)}` : ""}`} className="hover:underline">
      {a.run}
    </Link>
  );
  switch (a.state) {
    case "run":
      return (
        <span>
          <span className="text-soft">made </span>
          {to}
        </span>
      );
    case "wait":
      return (
        <span>
          <span className="text-soft">released {a.task} of </span>
          {to}
        </span>
      );
    case "gathering":
      return <span className="text-waiting">◌ gathered for {a.workflow}</span>;
    case "kept":
      return <span className="text-waiting">◌ kept until {a.workflow} is resumed</span>;
  }
  return (
    <span className="text-failed">
      ✕ nothing of {a.workflow}: {a.reason}
    </span>
  );
}

function Refused() {
  const list = useQuery({ queryKey: ["refusals"], queryFn: () => call<{ refusals: { at: string; via: string; reason: string }[] }>("GET", "/refusals") });
  if (list.error) return <NotShown error={list.error} what="What was refused cannot be read" />;
  if (list.isPending) return <Loading what="what was refused" />;
  if (list.data.refusals.length === 0) return <Empty title="Nothing was refused">What comes to the doors and is not let in is listed here, with why.</Empty>;
  return (
    <Table label="Refused" heads={["At", "Door", "Why"]}>
      {list.data.refusals.map((r, i) => (
        <Row key={i}>
          <Cell className="whitespace-nowrap">
            <Moment at={r.at} />
          </Cell>
          <Cell className="whitespace-nowrap">{r.via}</Cell>
          <Cell className="w-full">{r.reason}</Cell>
        </Row>
      ))}
    </Table>
  );
}
