import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, itemsPath, type Items, type Run, type Task } from "../api/client";
import { Button } from "../parts/button";
import { Loading, NotShown } from "../parts/notes";
import { Counts, Glyph } from "../parts/state";
import { Took } from "../parts/time";

const step = 100;

/** valueText is a value as a person reads it: text as it is, the rest as JSON. */
export const valueText = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value));

/** ItemList lists the items of a task that is made for each, in any state or in one. */
export function ItemList({ run, task, onTask }: { run: Run; task: Task; onTask: (task: string) => void }) {
  const [state, setState] = useState("");
  const counts = task.items?.counts ?? {};
  const states = Object.keys(counts).filter((s) => counts[s]);
  const only = states.includes(state) ? state : "";
  const pages = useInfiniteQuery({
    queryKey: ["items", run.id, task.name, only],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => call<Items>("GET", itemsPath(run.id, task.name, { from: pageParam, limit: step, ...(only && { state: only }) })),
    getNextPageParam: (page) => page.next ?? null,
  });
  if (pages.error) return <NotShown error={pages.error} what="The items cannot be read" />;
  if (pages.isPending) return <Loading what="the items" />;
  const items = pages.data.pages.flatMap((page) => page.items);
  if (items.length === 0) {
    return <p className="px-5 py-8 text-soft">{task.ended ? "It has no items." : "Its list is told when it begins."}</p>;
  }
  return (
    <>
      <div role="group" aria-label="Only items that are" className={`flex flex-wrap items-center gap-1 pt-3 ${states.length > 1 ? "px-2.5" : "px-5"}`}>
        {states.length > 1 ? (
          states.map((s) => (
            <button
              key={s}
              type="button"
              aria-pressed={s === only}
              onClick={() => setState(s === only ? "" : s)}
              className="inline-flex h-8 items-center gap-1.5 rounded-lg px-2.5 text-soft tabular-nums hover:text-ink aria-pressed:bg-raised aria-pressed:text-ink"
            >
              <Glyph state={s as Task["state"]} /> {counts[s]} {s}
            </button>
          ))
        ) : (
          <Counts counts={counts} words />
        )}
      </div>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-x-6 px-3 py-3">
        {items.map((item) => (
          <li key={item.name}>
            <button
              type="button"
              onClick={() => onTask(item.name)}
              title={item.reason ?? valueText(item.item)}
              aria-label={`${item.name}, ${valueText(item.item)}, ${item.state}`}
              className="flex h-9 w-full items-center gap-3 rounded-lg px-2 text-left hover:bg-raised"
            >
              <span className="min-w-6 text-soft tabular-nums">{item.name.slice(task.name.length + 1, -1)}</span>
              <Glyph state={item.state} />
              <code className="min-w-0 flex-1 truncate font-mono text-[0.87rem]">{valueText(item.item)}</code>
              {item.attempts.length > 1 && <span className="text-soft">×{item.attempts.length}</span>}
              <span className="text-[0.87rem] whitespace-nowrap text-soft tabular-nums">{item.started && <Took start={item.started} end={item.ended} />}</span>
            </button>
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <div className="px-5 pb-4">
          <Button disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            {step} more
          </Button>
        </div>
      )}
    </>
  );
}
