import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { Strip } from "../api/client";
import { moment, useZone } from "../parts/time";

const high = 72; // pixels
const gap = 1;

interface Column {
  succeeded: number;
  bad: Strip["marks"];
}

/** columnsOf puts the marks of the strip under the steps that they ended in. */
function columnsOf(strip: Strip): Column[] {
  const columns: Column[] = strip.succeeded.map((succeeded) => ({ succeeded, bad: [] }));
  for (const mark of strip.marks) {
    const at = Math.floor((Date.parse(mark.ended) - Date.parse(strip.from)) / 1000 / strip.step_seconds);
    columns[at]?.bad.push(mark);
  }
  return columns;
}

/**
 * StripPanel draws every run that ended in the last 24 hours as a mark, in columns of ten minutes: those that did not
 * succeed at the foot, where the eye looks for them. Marks become thinner where there are many.
 */
export function StripPanel({ strip }: { strip: Strip }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [width, setWidth] = useState(0);
  const [over, setOver] = useState<number>();
  const zone = useZone();
  const navigate = useNavigate();
  const columns = useMemo(() => columnsOf(strip), [strip]);
  const most = Math.max(1, ...columns.map((c) => c.succeeded + c.bad.length));
  const size = Math.min(6, (high - 8) / most);
  useEffect(() => {
    const element = canvas.current?.parentElement;
    if (!element) return;
    const watching = new ResizeObserver(() => setWidth(element.clientWidth));
    watching.observe(element);
    return () => watching.disconnect();
  }, []);
  useEffect(() => {
    const draw = () => {
      const element = canvas.current;
      const paint = element?.getContext("2d");
      if (!element || !paint || width === 0) return;
      const scale = devicePixelRatio;
      element.width = width * scale;
      element.height = high * scale;
      paint.scale(scale, scale);
      const style = getComputedStyle(document.documentElement);
      const colour = (name: string) => style.getPropertyValue(name).trim();
      const step = width / columns.length;
      const wide = Math.max(1.5, Math.min(step - gap, 7));
      columns.forEach((column, i) => {
        let y = high;
        const mark = (name: string, cross: boolean) => {
          y -= size;
          paint.fillStyle = colour(name);
          const tall = Math.max(0.5, size - (size > 2 ? 1 : 0));
          paint.fillRect(i * step + (step - wide) / 2 - (cross ? 1 : 0), y, wide + (cross ? 2 : 0), tall);
        };
        for (const bad of column.bad) mark(bad.state === "failed" ? "--failed" : "--none", true);
        for (let n = 0; n < column.succeeded; n++) mark("--succeeded", false);
      });
    };
    draw();
    const themed = new MutationObserver(draw);
    themed.observe(document.documentElement, { attributeFilter: ["data-theme"] });
    return () => themed.disconnect();
  }, [columns, size, width]);
  const at = (i: number) => new Date(Date.parse(strip.from) + i * strip.step_seconds * 1000).toISOString();
  const column = over === undefined ? undefined : columns[over];
  const total = columns.reduce((n, c) => n + c.succeeded, 0);
  const hours = [0, 0.25, 0.5, 0.75].map((part) => ({ part, text: moment(at(Math.round(part * columns.length)), zone).replace(/:\d\d$/, (s) => (s === ":00" ? "" : s)) }));
  return (
    <div className="px-4 pt-4 pb-3">
      <div className="relative h-[72px]">
        <canvas
          ref={canvas}
          role="img"
          aria-label={`Runs that ended in the last 24 hours: ${total} succeeded, ${strip.marks.length}${strip.more ? " and more" : ""} did not`}
          className="h-[72px] w-full cursor-pointer"
          onMouseMove={(event) => setOver(Math.min(columns.length - 1, Math.floor((event.nativeEvent.offsetX / width) * columns.length)))}
          onMouseLeave={() => setOver(undefined)}
          onClick={() => {
            if (over === undefined || !column) return;
            const only = column.bad[0];
            if (column.bad.length === 1 && only) void navigate(`/runs/${only.run}`);
            else void navigate(`/runs?ended_from=${encodeURIComponent(at(over))}&ended_until=${encodeURIComponent(at(over + 1))}`);
          }}
        />
      </div>
      <div className="relative mt-1 h-5 border-t border-line text-[0.8rem] text-soft">
        {hours.map(({ part, text }) => (
          <span key={part} className="absolute border-l border-line pl-1.5" style={{ left: `${part * 100}%` }}>
            {text}
          </span>
        ))}
        <span className="absolute right-0">now</span>
      </div>
      <p className="mt-1 min-h-[1.4em] text-[0.87rem] text-soft" aria-hidden>
        {column && over !== undefined ? (
          <>
            {moment(at(over), zone)} to {moment(at(over + 1), zone)}: {column.succeeded} succeeded
            {column.bad.length > 0 && (
              <span className="text-failed">
                , {column.bad.length} did not: {column.bad.slice(0, 6).map((b) => b.run).join(", ")}
              </span>
            )}
          </>
        ) : (
          `Each mark is a run, where it ended: ${total} succeeded, ${strip.marks.length}${strip.more ? " and more" : ""} did not.`
        )}
      </p>
    </div>
  );
}
