import { useInfiniteQuery } from "@tanstack/react-query";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { GitCompareArrows, SlidersHorizontal } from "lucide-react";
import { memo, useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { call, type Run } from "../api/client";
import { useAddress } from "../parts/address";
import { Button } from "../parts/button";
import { Command, Empty, Loading, NotShown } from "../parts/notes";
import { Ribbon } from "../parts/ribbon";
import { StateMark } from "../parts/state";
import { StateFilter } from "../parts/state-filter";
import { Moment, Took, WindowText } from "../parts/time";

type Page = { runs: Run[]; next?: string };

/** The filters of a logbook, as the address has them, with what each is for. */
const fields = [
  ["cause", "Cause"],
  ["version", "Version"],
  ["from", "Window from"],
  ["until", "Window until"],
  ["param", "Param, as basin=upper"],
  ["error", "Text of an error"],
] as const;
const passed = ["state", ...fields.map(([name]) => name), "ended_from", "ended_until"];

/** isNarrow tells whether there is no room for all columns. */
const isNarrow = (width: number) => width < 1080;

const rowHeight = 38;
const pageSize = 200;

/** Logbook is the history of a workflow, or of all: each run a line with a ribbon of its tasks. */
export function Logbook({ workflow, title }: { workflow?: string; title: React.ReactNode }) {
  const [query, change] = useAddress();
  const [chosen, setChosen] = useState<string[]>([]);
  const filtered = passed.filter((name) => query.get(name));
  const [more, setMore] = useState(filtered.some((name) => name !== "state"));
  const aligned = query.get("ribbon") === "aligned";
  const navigate = useNavigate();
  const asked = new URLSearchParams({ limit: String(pageSize), ribbon: "true" });
  if (workflow) asked.set("workflow", workflow);
  for (const name of passed) {
    const value = query.get(name);
    if (value) asked.set(name, value);
  }
  const pages = useInfiniteQuery({
    queryKey: ["runs", asked.toString()],
    initialPageParam: "",
    queryFn: ({ pageParam }) => call<Page>("GET", `/runs?${asked}${pageParam ? `&before=${pageParam}` : ""}`),
    getNextPageParam: (page) => page.next ?? null,
    placeholderData: (before) => before,
  });
  const set = (name: string, value: string) => change({ [name]: value });
  const clear = () => change(Object.fromEntries(passed.map((name) => [name, ""])));
  const runs = useMemo(() => pages.data?.pages.flatMap((page) => page.runs) ?? [], [pages.data]);
  const choose = useCallback((id: string) => setChosen((before) => (before.includes(id) ? before.filter((b) => b !== id) : [...before, id].slice(-2))), []);
  const [a, b] = chosen;
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-x-5 gap-y-2">
        {title}
        <StateFilter state={query.get("state") ?? undefined} onChange={(next) => set("state", next)} />
        <div className="ml-auto flex items-center gap-1">
          {workflow && (
            <Button
              look={chosen.length === 2 ? "lamp" : "bare"}
              disabled={chosen.length !== 2}
              title="Choose two runs by their boxes"
              onClick={() => void navigate(`/compare?a=${[a, b].sort(byNumber)[0] ?? ""}&b=${[a, b].sort(byNumber)[1] ?? ""}`)}
            >
              <GitCompareArrows size={15} /> Compare {chosen.length > 0 ? chosen.length : ""}
            </Button>
          )}
          <Button look="bare" aria-pressed={aligned} className="aria-pressed:bg-raised aria-pressed:text-ink" onClick={() => set("ribbon", aligned ? "" : "aligned")}>
            Aligned
          </Button>
          <Button look="bare" aria-expanded={more} onClick={() => setMore(!more)}>
            <SlidersHorizontal size={15} /> Filter{filtered.length > 0 && ` (${filtered.length})`}
          </Button>
        </div>
      </div>
      {more && <Filters query={query} set={set} clear={clear} />}
      {pages.error ? (
        <NotShown error={pages.error} what="The runs cannot be read" />
      ) : pages.isPending ? (
        <Loading what="the runs" />
      ) : runs.length === 0 ? (
        <Empty title={filtered.length === 1 && query.get("state") ? `No run is ${query.get("state")}` : filtered.length ? "No run is like that" : "No runs yet"}>
          {filtered.length > 0 ? (
            <Button onClick={clear}>Show all</Button>
          ) : (
            <>
              Start one here, or with <Command>{`lantern start ${workflow ?? "WORKFLOW"}`}</Command>
            </>
          )}
        </Empty>
      ) : (
        <Lines
          runs={runs}
          comparing={!!workflow}
          chosen={chosen}
          choose={choose}
          aligned={aligned}
          more={pages.hasNextPage}
          fetching={pages.isFetchingNextPage}
          fetch={() => void pages.fetchNextPage()}
        />
      )}
    </>
  );
}

const numberOf = (id: string | undefined) => Number(id?.split(":")[1] ?? 0);
const byNumber = (a: string | undefined, b: string | undefined) => numberOf(a) - numberOf(b);

function Filters({ query, set, clear }: { query: URLSearchParams; set: (name: string, value: string) => void; clear: () => void }) {
  const box = "h-9 rounded-lg border border-line bg-surface px-3 placeholder:text-soft";
  return (
    <div role="group" aria-label="Only runs with" className="mb-3 flex flex-wrap items-end gap-3 rounded-xl border border-line bg-surface px-5 py-3.5">
      {fields.map(([name, label], i) => (
        <label key={name} className="flex flex-col gap-1 text-[0.8rem] text-soft">
          {label}
          {name === "cause" ? (
            <select data-filter={i === 0 || undefined} className={`${box} text-ink`} value={query.get(name) ?? ""} onChange={(event) => set(name, event.target.value)}>
              <option value="">any</option>
              {["schedule", "event", "backfill", "person", "workflow"].map((cause) => (
                <option key={cause}>{cause}</option>
              ))}
            </select>
          ) : (
            <Field name={name} className={box} value={query.get(name) ?? ""} onChange={(value) => set(name, value)} />
          )}
        </label>
      ))}
      {query.get("ended_from") && (
        <p className="pb-2">
          ended <Moment at={query.get("ended_from") ?? ""} /> to <Moment at={query.get("ended_until") ?? ""} />
        </p>
      )}
      <Button look="bare" className="ml-auto" onClick={clear}>
        Show all
      </Button>
    </div>
  );
}

/** Field asks when its reader has stopped typing. */
function Field({ name, value, onChange, className }: { name: string; value: string; onChange: (value: string) => void; className: string }) {
  const [text, setText] = useState(value);
  const [last, setLast] = useState(value);
  if (value !== last) {
    setLast(value);
    setText(value);
  }
  useEffect(() => {
    if (text === value) return;
    const timer = setTimeout(() => onChange(text), 400);
    return () => clearTimeout(timer);
  });
  const date = name === "from" || name === "until";
  return <input type={date ? "date" : name === "version" ? "number" : "text"} min={1} className={`${className} text-ink ${name === "version" ? "w-24" : "w-44"}`} value={text} onChange={(event) => setText(event.target.value)} />;
}

interface LinesProps {
  runs: Run[];
  comparing: boolean;
  chosen: string[];
  choose: (id: string) => void;
  aligned: boolean;
  more: boolean;
  fetching: boolean;
  fetch: () => void;
}

/**
 * longestOf is what the whole width of a ribbon stands for, by workflow: what nine of ten of its runs take, so that one
 * long run does not make all others a dot; aligned, what the longest task of nine of ten takes.
 */
function longestOf(runs: Run[], aligned: boolean): Map<string, number> {
  const totals = new Map<string, number[]>();
  for (const r of runs) {
    const seconds = r.ribbon?.seconds ?? [];
    const one = aligned ? Math.max(0, ...seconds) : seconds.reduce((n, s) => n + s, 0);
    const list = totals.get(r.workflow);
    if (list) list.push(one);
    else totals.set(r.workflow, [one]);
  }
  return new Map([...totals].map(([name, list]) => [name, Math.max(0.001, list.sort((a, b) => a - b)[Math.floor(list.length * 0.9)] ?? 0)]));
}

/** Lines draws only the lines that are in sight, and has more read before the last is. */
function Lines({ runs, comparing, chosen, choose, aligned, more, fetching, fetch }: LinesProps) {
  const list = useRef<HTMLDivElement>(null);
  const [top, setTop] = useState(0);
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const element = list.current;
    if (!element) return;
    const measure = () => {
      setTop(element.getBoundingClientRect().top + scrollY);
      setWidth(element.clientWidth);
    };
    measure();
    const watching = new ResizeObserver(measure);
    watching.observe(element);
    watching.observe(document.body);
    return () => watching.disconnect();
  }, []);
  const rows = useWindowVirtualizer({ count: runs.length, estimateSize: () => rowHeight, overscan: 12, scrollMargin: top, useFlushSync: false });
  const shown = rows.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && !fetching && last > runs.length - 60) fetch();
  }, [more, fetching, last, runs.length, fetch]);
  const longest = useMemo(() => longestOf(runs, aligned), [runs, aligned]);
  const narrow = isNarrow(width);
  const ribbon = Math.max(110, Math.min(480, width - 975));
  const columns = narrow ? (width < 560 ? "1fr auto" : "1fr auto 14rem 5rem") : `${comparing ? "2rem " : ""}minmax(9rem, 1fr) 7.5rem minmax(12rem, 1.2fr) minmax(5rem, 0.7fr) 3.5rem 9.5rem 5.5rem ${ribbon}px`;
  return (
    <div role="table" aria-label="Runs" aria-rowcount={runs.length} className="rounded-xl border border-line bg-surface">
      <div role="rowgroup">
        <div role="row" className={`grid items-center gap-x-4 border-b border-line px-4 py-2.5 text-[0.8rem] font-medium text-soft ${narrow ? "hidden" : ""}`} style={{ gridTemplateColumns: columns }}>
          {[...(comparing ? [""] : []), "Run", "State", "Window", "Cause", "Version", "Began", "Took", "Tasks"].map((head) => (
            <span key={head} role="columnheader" className={head === "Version" ? "-mr-2" : ""}>
              {head || <span className="sr-only">Compare</span>}
            </span>
          ))}
        </div>
      </div>
      <div ref={list} role="rowgroup" className="relative" style={{ height: rows.getTotalSize() }}>
        {shown.map((at) => {
          const run = runs[at.index];
          return run && <Line key={run.id} run={run} index={at.index} top={at.start - top} columns={columns} comparing={comparing} chosen={chosen.includes(run.id)} choose={choose} width={width} ribbon={ribbon} longest={longest.get(run.workflow) ?? 1} aligned={aligned} />;
        })}
      </div>
      {fetching && (
        <p role="status" className="px-4 py-2 text-soft">
          Reading older runs…
        </p>
      )}
    </div>
  );
}

interface LineProps {
  run: Run;
  index: number;
  top: number;
  columns: string;
  comparing: boolean;
  chosen: boolean;
  choose: (id: string) => void;
  width: number;
  ribbon: number; // pixels
  longest: number;
  aligned: boolean;
}

/** Line is a run of a logbook. While one scrolls, those that stay are not made again. */
const Line = memo(function Line({ run, index, top, columns, comparing, chosen, choose, width, ribbon, longest, aligned }: LineProps) {
  const narrow = isNarrow(width);
  return (
    <div
      role="row"
      aria-rowindex={index + 1}
      data-row
      className="absolute inset-x-0 grid items-center gap-x-4 border-b border-line/70 px-4 focus-within:bg-raised/60 hover:bg-raised/60"
      style={{ height: rowHeight, top, gridTemplateColumns: columns, contain: "strict" }}
    >
      {comparing && !narrow && (
        <span role="cell">
          <input type="checkbox" aria-label={`Compare ${run.id}`} className="accent-lamp align-middle" checked={chosen} onChange={() => choose(run.id)} />
        </span>
      )}
      <span role="cell" className="truncate">
        <Link to={`/runs/${run.id}`} className="font-medium hover:underline">
          {run.id}
        </Link>
      </span>
      <span role="cell">
        <StateMark state={run.state} />
      </span>
      {narrow && width >= 560 && (
        <>
          <span role="cell" className="truncate">
            <WindowText window={run.window} />
          </span>
          <span role="cell" className="truncate">
            <Took start={run.started} end={run.ended} />
          </span>
        </>
      )}
      {!narrow && (
        <>
          <span role="cell" className="truncate">
            <WindowText window={run.window} />
          </span>
          <span role="cell" className="truncate text-soft">
            {run.cause === "person" ? run.caused_by : run.cause}
          </span>
          <span role="cell" className="figures text-soft">
            {run.version}
          </span>
          <span role="cell" className="truncate">
            <Moment at={run.started} />
          </span>
          <span role="cell" className="truncate">
            <Took start={run.started} end={run.ended} />
          </span>
          <span role="cell">{run.ribbon && <Ribbon ribbon={run.ribbon} width={ribbon} longest={longest} aligned={aligned} />}</span>
        </>
      )}
    </div>
  );
});
