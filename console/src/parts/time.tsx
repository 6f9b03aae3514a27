import { useEffect, useState } from "react";
import type { Run } from "../api/client";

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
const minute = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const day = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });

const sameDay = (a: Date, b: Date) => a.toDateString() === b.toDateString();

/** moment is a moment in the reader's zone, no longer than it needs to be. */
export function moment(text: string, now = new Date()): string {
  const at = new Date(text);
  if (sameDay(at, now)) return clock.format(at);
  return `${day.format(at)} ${minute.format(at)}`;
}

export function windowText(window: NonNullable<Run["window"]>): string {
  const start = new Date(window.start);
  const end = new Date(window.end);
  const from = `${day.format(start)} ${minute.format(start)}`;
  if (sameDay(start, end)) return `${from}–${minute.format(end)}`;
  if (end.getTime() - start.getTime() < 86_400_000 && minute.format(end) === "00:00") return `${from}–24:00`;
  return `${from} – ${day.format(end)} ${minute.format(end)}`;
}

export function length(milliseconds: number): string {
  const s = Math.max(0, milliseconds) / 1000;
  if (s < 1) return `${Math.round(s * 1000)}ms`;
  if (s < 10) return `${s.toFixed(1)}s`;
  if (s < 60) return `${Math.floor(s)}s`;
  if (s < 3600) return `${Math.floor(s / 60)}m ${String(Math.floor(s) % 60).padStart(2, "0")}s`;
  if (s < 172_800) return `${Math.floor(s / 3600)}h ${String(Math.floor(s / 60) % 60).padStart(2, "0")}m`;
  return `${Math.floor(s / 86_400)}d ${Math.floor(s / 3600) % 24}h`;
}

/** useNow is the time, anew each that many milliseconds while it is wanted. */
function useNow(every: number, wanted: boolean): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    if (!wanted) return;
    const timer = setInterval(() => setNow(Date.now()), every);
    return () => clearInterval(timer);
  }, [every, wanted]);
  return now;
}

export function Moment({ at }: { at: string | undefined }) {
  if (!at) return <span className="text-soft">–</span>;
  return (
    <time dateTime={at} title={new Date(at).toLocaleString("en-GB", { dateStyle: "full", timeStyle: "long" })}>
      {moment(at)}
    </time>
  );
}

/** Took is how long something lasted, growing while it lasts. */
export function Took({ start, end }: { start?: string | undefined; end?: string | undefined }) {
  const now = useNow(500, !!start && !end);
  if (!start) return <span className="text-soft">–</span>;
  return <span className="figures">{length((end ? Date.parse(end) : now) - Date.parse(start))}</span>;
}

/** Until is how long it is until a moment. */
export function Until({ at }: { at: string }) {
  const now = useNow(1000, true);
  const left = Date.parse(at) - now;
  return <span className="figures">{left > 0 ? `in ${length(left)}` : "now"}</span>;
}
