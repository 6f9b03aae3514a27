/**
 * stream keeps a live stream open while the page is seen. A browser gives all
 * tabs of one service six connections together, so a page that nobody sees
 * gives its own back; `address` is asked anew each time it is opened. The
 * function that it returns closes it for good.
 */
export function stream(address: () => string, listen: (source: EventSource) => void): () => void {
  let source: EventSource | undefined;
  const open = () => {
    if (source || document.visibilityState === "hidden") return;
    source = new EventSource(address());
    listen(source);
  };
  const close = () => {
    source?.close();
    source = undefined;
  };
  const look = () => (document.visibilityState === "hidden" ? close() : open());
  document.addEventListener("visibilitychange", look);
  addEventListener("pagehide", close);
  addEventListener("pageshow", open);
  open();
  return () => {
    document.removeEventListener("visibilitychange", look);
    removeEventListener("pagehide", close);
    removeEventListener("pageshow", open);
    close();
  };
}
