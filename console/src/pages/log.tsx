import { useInfiniteQuery } from "@tanstack/react-query";
import { useDeferredValue, useEffect, useReducer, useRef, useState } from "react";
import { call, logPath, type Line, type Lines } from "../api/client";
import { stream } from "../api/stream";
import { Button } from "../parts/button";
import { Glyph } from "../parts/state";

/** How many lines are shown at first and with each step back, and at most. */
const step = 1000;
const most = 5000;

interface Shown {
  lines: Line[];
  state: "reading" | "following" | "whole" | "lost";
}

type News = { kind: "later" | "earlier" | "only"; lines: Line[] } | { kind: "state"; state: Shown["state"] };

function reduce(shown: Shown, news: News): Shown {
  switch (news.kind) {
    case "later":
      return { ...shown, lines: [...shown.lines, ...news.lines].slice(-most) };
    case "earlier":
      return { ...shown, lines: [...news.lines, ...shown.lines].slice(0, most) };
    case "only":
      return { ...shown, lines: news.lines };
    case "state":
      return { ...shown, state: news.state };
  }
}

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit", fractionalSecondDigits: 3 });

/** Log shows what an attempt printed, and follows it while it grows. */
export function Log({ run, task, attempt }: { run: string; task: string; attempt: number }) {
  const [{ lines, state }, tell] = useReducer(reduce, { lines: [], state: "reading" });
  const [follow, setFollow] = useState(true);
  const [cleared, setCleared] = useState("");
  const [find, setFind] = useState("");
  const [level, setLevel] = useState("");
  const [at, setAt] = useState<number>(); // the line that a search led to
  const box = useRef<HTMLDivElement>(null);

  useEffect(() => {
    let close: (() => void) | undefined;
    let left = false;
    const read = async () => {
      const page = await call<Lines>("GET", logPath(run, task, attempt, { last: step, limit: step }));
      if (left) return;
      tell({ kind: "later", lines: page.lines });
      setCleared(page.cleared ?? "");
      if (!page.open) {
        tell({ kind: "state", state: "whole" });
        return;
      }
      tell({ kind: "state", state: "following" });
      let from = page.total;
      close = stream(
        () => `/api${logPath(run, task, attempt, { from }, "/stream")}`,
        (source) => {
          source.addEventListener("lines", (event: MessageEvent<string>) => {
            const lines = JSON.parse(event.data) as Line[];
            from += lines.length;
            tell({ kind: "later", lines });
          });
          source.addEventListener("end", () => {
            close?.();
            tell({ kind: "state", state: "whole" });
          });
        },
      );
    };
    read().catch(() => !left && tell({ kind: "state", state: "lost" }));
    return () => {
      left = true;
      close?.();
    };
  }, [run, task, attempt]);

  const open = async (number: number) => {
    const from = Math.max(0, number - step / 4);
    const page = await call<Lines>("GET", logPath(run, task, attempt, { from, limit: step }));
    setFollow(false);
    tell({ kind: "only", lines: page.lines });
    setAt(number);
    setFind("");
    setLevel("");
  };
  useEffect(() => {
    if (at !== undefined) box.current?.querySelector(`[data-line="${at}"]`)?.scrollIntoView({ block: "center" });
  }, [at, lines]);

  useEffect(() => {
    if (follow && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [lines, follow]);

  const first = lines[0]?.number ?? 0;
  const earlier = async () => {
    setFollow(false);
    const from = Math.max(0, first - step);
    const page = await call<Lines>("GET", logPath(run, task, attempt, { from, limit: first - from }));
    tell({ kind: "earlier", lines: page.lines });
  };

  const last = lines.at(-1)?.number ?? 0;
  const later = async () => {
    const page = await call<Lines>("GET", logPath(run, task, attempt, { from: last + 1, limit: step }));
    tell({ kind: "later", lines: page.lines });
  };
  const searching = find !== "" || level !== "";
  return (
    <div className="relative">
      <div className="flex flex-wrap items-center gap-2 px-5 pt-2.5">
        <label>
          <span className="sr-only">Find in the log</span>
          <input type="search" data-filter value={find} onChange={(event) => setFind(event.target.value)} placeholder="Find in the log" className="h-8 w-56 rounded-lg border border-line bg-ground px-3 text-[0.87rem] placeholder:text-soft" />
        </label>
        <label>
          <span className="sr-only">Only lines of this level</span>
          <select value={level} onChange={(event) => setLevel(event.target.value)} className="h-8 rounded-lg border border-line bg-ground px-2 text-[0.87rem] text-soft">
            <option value="">all lines</option>
            <option value="warning">warnings and worse</option>
            <option value="error">errors</option>
          </select>
        </label>
        {at !== undefined && !searching && <span className="text-[0.87rem] text-soft">at line {at + 1}</span>}
      </div>
      {searching && <Found run={run} task={task} attempt={attempt} find={find} level={level} onOpen={(number) => void open(number)} />}
      <div
        hidden={searching}
        ref={box}
        tabIndex={0}
        role="log"
        aria-label={`Log of attempt ${attempt}`}
        onScroll={(event) => {
          const { scrollTop, scrollHeight, clientHeight } = event.currentTarget;
          setFollow(scrollHeight - scrollTop - clientHeight < 24);
        }}
        className="max-h-[26rem] min-h-28 overflow-auto px-5 py-3 font-mono text-[0.83rem] leading-relaxed"
      >
        {first > 0 && (
          <Button look="bare" className="mb-1 h-7 font-sans" onClick={() => void earlier()}>
            Earlier lines ({first})
          </Button>
        )}
        {lines.map((line) => (
          <div key={line.number} data-line={line.number} className={`${line.number === at ? "bg-raised" : ""} flex gap-4 [contain-intrinsic-size:auto_1.4rem] [content-visibility:auto]`}>
            <time dateTime={line.at} className="shrink-0 text-soft select-none">
              {clock.format(new Date(line.at))}
            </time>
            <span className={`min-w-0 break-words whitespace-pre-wrap ${line.stream === "err" ? "text-failed" : ""}`}>
              {line.stream === "err" && <span className="sr-only">standard error: </span>}
              {line.text}
            </span>
          </div>
        ))}
        {at !== undefined && lines.length >= step && (
          <Button look="bare" className="mt-1 h-7 font-sans" onClick={() => void later()}>
            Later lines
          </Button>
        )}
        {state === "reading" && <p className="font-sans text-soft">Reading the log…</p>}
        {state === "lost" && <p className="font-sans text-failed">✕ The log cannot be read; open the task again to try once more.</p>}
        {state === "whole" && lines.length === 0 && (
          <p className="font-sans text-soft">{cleared ? `The log was removed: logs are kept for ${cleared} after their run has ended.` : "Nothing was written."}</p>
        )}
        {state === "following" && (
          <p className="flex items-center gap-2 font-sans text-running">
            <Glyph state="running" /> {lines.length === 0 && "Nothing printed yet"}
          </p>
        )}
      </div>
      {!follow && state === "following" && (
        <Button className="absolute right-6 bottom-4" onClick={() => setFollow(true)}>
          Follow
        </Button>
      )}
    </div>
  );
}

/** Found are the lines of a log that a search finds; the service looks through all of them. */
function Found(props: { run: string; task: string; attempt: number; find: string; level: string; onOpen: (number: number) => void }) {
  const { run, task, attempt, onOpen } = props;
  const find = useDeferredValue(props.find);
  const { level } = props;
  const pages = useInfiniteQuery({
    queryKey: ["log", run, task, attempt, find, level],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => call<Lines>("GET", logPath(run, task, attempt, { from: pageParam, limit: 500, ...(find && { find }), ...(level && { level }) })),
    getNextPageParam: (page) => page.next ?? null,
    enabled: find !== "" || level !== "",
  });
  const lines = pages.data?.pages.flatMap((page) => page.lines) ?? [];
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  // A long log is looked through part by part, until there is enough to read.
  const goesOn = hasNextPage && lines.length < 500;
  useEffect(() => {
    if (goesOn && !isFetchingNextPage) void fetchNextPage();
  }, [goesOn, isFetchingNextPage, fetchNextPage]);
  const total = pages.data?.pages[0]?.total ?? 0;
  const through = pages.data?.pages.at(-1)?.next;
  return (
    <div className="max-h-[26rem] min-h-28 overflow-auto px-5 py-3 font-mono text-[0.83rem] leading-relaxed" tabIndex={0} role="region" aria-label="Lines that were found">
      {pages.error && <p className="font-sans text-failed">✕ {pages.error.message}</p>}
      {pages.data && lines.length === 0 && !goesOn && <p className="font-sans text-soft">No line of {total} is like that.</p>}
      {lines.map((line) => (
        <button key={line.number} type="button" className="flex w-full gap-4 text-left hover:bg-raised" onClick={() => onOpen(line.number)}>
          <span className="figures w-16 shrink-0 text-right text-soft">{line.number + 1}</span>
          <span className={`min-w-0 break-words whitespace-pre-wrap ${line.stream === "err" ? "text-failed" : ""}`}>{line.text}</span>
        </button>
      ))}
      {goesOn && (
        <p role="status" className="font-sans text-soft">
          Looked through {through} of {total} lines…
        </p>
      )}
      {hasNextPage && !goesOn && (
        <Button look="bare" className="mt-1 h-7 font-sans" disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
          Go on searching ({through} of {total} lines)
        </Button>
      )}
    </div>
  );
}
