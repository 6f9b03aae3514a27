import { createContext, useContext, useEffect, useState, useSyncExternalStore, type ReactNode } from "react";
import type { Run } from "../api/client";

/** How moments are shown: in the reader's zone, in that of the rule, in UTC, or by how long ago they were. */
export type Clock = "here" | "rule" | "utc" | "ago";

const key = "lantern-clock";
const clocks: Clock[] = ["here", "rule", "utc", "ago"];
const listeners = new Set<() => void>();
const currentClock = (): Clock => clocks.find((c) => c === localStorage.getItem(key)) ?? "here";

/** nextClock shows moments in the next way. */
export function nextClock() {
  localStorage.setItem(key, clocks[(clocks.indexOf(currentClock()) + 1) % clocks.length] ?? "here");
  for (const listener of listeners) listener();
}

export function useClock(): Clock {
  return useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, currentClock);
}

const RuleZone = createContext<string | undefined>(undefined);

/** InZone says in which zone the rule of what stands in it is. */
export function InZone({ zone, children }: { zone: string | undefined; children: ReactNode }) {
  return <RuleZone.Provider value={zone}>{children}</RuleZone.Provider>;
}

/** useZone is the zone in which moments are shown, undefined for the reader's. */
export function useZone(): string | undefined {
  const clock = useClock();
  const rule = useContext(RuleZone);
  return clock === "utc" ? "UTC" : clock === "rule" ? rule : undefined;
}

const made = new Map<string, Intl.DateTimeFormat>();

function format(kind: "clock" | "minute" | "day" | "whole", at: Date, zone: string | undefined): string {
  const name = `${kind} ${zone ?? ""}`;
  let f = made.get(name);
  if (!f) {
    const shapes: Record<typeof kind, Intl.DateTimeFormatOptions> = {
      clock: { hour: "2-digit", minute: "2-digit", second: "2-digit" },
      minute: { hour: "2-digit", minute: "2-digit" },
      day: { weekday: "short", day: "numeric", month: "short" },
      whole: { dateStyle: "full", timeStyle: "long" },
    };
    f = new Intl.DateTimeFormat("en-GB", { ...shapes[kind], ...(zone && { timeZone: zone }) });
    made.set(name, f);
  }
  return f.format(at);
}

const sameDay = (a: Date, b: Date, zone: string | undefined) => format("day", a, zone) === format("day", b, zone) && Math.abs(a.getTime() - b.getTime()) < 172_800_000;

/** moment is a moment, no longer than it needs to be. */
export function moment(text: string, zone?: string, now = new Date()): string {
  const at = new Date(text);
  if (sameDay(at, now, zone)) return format("clock", at, zone);
  return `${format("day", at, zone)} ${format("minute", at, zone)}`;
}

/** exact is a moment with everything that there is to say of it. */
export const exact = (text: string, zone?: string) => format("whole", new Date(text), zone);

export function windowText(window: NonNullable<Run["window"]>, zone?: string): string {
  const start = new Date(window.start);
  const end = new Date(window.end);
  const minute = (at: Date) => format("minute", at, zone);
  const from = `${format("day", start, zone)} ${minute(start)}`;
  if (sameDay(start, end, zone)) return `${from}–${minute(end)}`;
  if (end.getTime() - start.getTime() < 86_400_000 && minute(end) === "00:00") return `${from}–24:00`;
  return `${from} – ${format("day", end, zone)} ${minute(end)}`;
}

/** WindowText is a window in the zone in which moments are shown. */
export function WindowText({ window }: { window: Run["window"] }) {
  const zone = useZone();
  if (!window) return <span className="text-soft">–</span>;
  return <span title={`${exact(window.start, zone)} – ${exact(window.end, zone)}`}>{windowText(window, zone)}</span>;
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
export function useNow(every: number, wanted: boolean): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    if (!wanted) return;
    const timer = setInterval(() => setNow(Date.now()), every);
    return () => clearInterval(timer);
  }, [every, wanted]);
  return now;
}

/** Moment is a moment; a click shows all moments in the next way. */
export function Moment({ at }: { at: string | undefined }) {
  const zone = useZone();
  const ago = useClock() === "ago";
  const now = useNow(1000, ago && !!at);
  if (!at) return <span className="text-soft">–</span>;
  const away = now - Date.parse(at);
  return (
    <time dateTime={at} title={`${exact(at, zone)}; a click shows times in another way`} className="cursor-pointer" onClick={nextClock}>
      {!ago ? moment(at, zone) : away >= 0 ? `${length(away)} ago` : `in ${length(-away)}`}
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
