import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useSyncExternalStore } from "react";
import { stream } from "./stream";

/** Whether the live stream is connected, and since when it is not. */
let lostSince: Date | null = null;
const listeners = new Set<() => void>();

function setLost(lost: boolean) {
  if (lost === (lostSince !== null)) return;
  lostSince = lost ? new Date() : null;
  for (const listener of listeners) listener();
}

export function useLostSince(): Date | null {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => lostSince,
  );
}

/** How long changes are gathered, in milliseconds, before what is shown is read anew; longer where that is much. */
const gatherShort = 150;
export const gatherLong = 1000;

/**
 * useLive reads anew what is shown when something changes: of one run, or
 * without one of all. Nothing is asked while nothing changes.
 */
export function useLive(run?: string, gather = gatherShort) {
  const queries = useQueryClient();
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined;
    const refresh = () => {
      timer = undefined;
      void queries.invalidateQueries();
    };
    const address = () => `/api/stream${run ? `?run=${encodeURIComponent(run)}` : ""}`;
    const close = stream(address, (source) => {
      // After "ready" too: what happened before the stream was there was not told.
      for (const kind of ["ready", "change", "workflows"]) {
        source.addEventListener(kind, () => {
          timer ??= setTimeout(refresh, gather);
        });
      }
      source.onopen = () => setLost(false);
      source.onerror = () => setLost(true);
    });
    return () => {
      close();
      clearTimeout(timer);
      setLost(false);
    };
  }, [queries, run, gather]);
}
