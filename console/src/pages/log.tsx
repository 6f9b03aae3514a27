import { useEffect, useReducer, useRef, useState } from "react";
import { call, logPath, type Line, type Lines } from "../api/client";
import { stream } from "../api/stream";
import { Button } from "../parts/button";

/** How many lines are shown at first and with each step back, and at most. */
const step = 1000;
const most = 5000;

interface Shown {
  lines: Line[];
  state: "reading" | "following" | "whole" | "lost";
}

type News = { kind: "later" | "earlier"; lines: Line[] } | { kind: "state"; state: Shown["state"] };

function reduce(shown: Shown, news: News): Shown {
  switch (news.kind) {
    case "later":
      return { ...shown, lines: [...shown.lines, ...news.lines].slice(-most) };
    case "earlier":
      return { ...shown, lines: [...news.lines, ...shown.lines].slice(0, most) };
    case "state":
      return { ...shown, state: news.state };
  }
}

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit", fractionalSecondDigits: 3 });

/** Log shows what an attempt printed, and follows it while it grows. */
export function Log({ run, task, attempt }: { run: string; task: string; attempt: number }) {
  const [{ lines, state }, tell] = useReducer(reduce, { lines: [], state: "reading" });
  const [follow, setFollow] = useState(true);
  const box = useRef<HTMLDivElement>(null);

  useEffect(() => {
    let close: (() => void) | undefined;
    let left = false;
    const read = async () => {
      const page = await call<Lines>("GET", logPath(run, task, attempt, { last: step, limit: step }));
      if (left) return;
      tell({ kind: "later", lines: page.lines });
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

  return (
    <div className="relative">
      <div
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
          <div key={line.number} className="flex gap-4 [contain-intrinsic-size:auto_1.4rem] [content-visibility:auto]">
            <time dateTime={line.at} className="shrink-0 text-soft select-none">
              {clock.format(new Date(line.at))}
            </time>
            <span className={`min-w-0 break-words whitespace-pre-wrap ${line.stream === "err" ? "text-failed" : ""}`}>
              {line.stream === "err" && <span className="sr-only">standard error: </span>}
              {line.text}
            </span>
          </div>
        ))}
        {state === "reading" && <p className="font-sans text-soft">Reading the log…</p>}
        {state === "lost" && <p className="font-sans text-failed">✕ The log cannot be read; open the task again to try once more.</p>}
        {state === "whole" && lines.length === 0 && <p className="font-sans text-soft">Nothing was written.</p>}
        {state === "following" && <p className="font-sans text-running lamp-lit">{lines.length === 0 ? "Nothing printed yet" : "◐"}</p>}
      </div>
      {!follow && state === "following" && (
        <Button className="absolute right-6 bottom-4" onClick={() => setFollow(true)}>
          Follow
        </Button>
      )}
    </div>
  );
}
