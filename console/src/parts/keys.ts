import { useEffect } from "react";

/** Where g and a letter go. */
export const places: { key: string; to: string; name: string }[] = [
  { key: "h", to: "/", name: "Watch" },
  { key: "f", to: "/failures", name: "Failures" },
  { key: "w", to: "/workflows", name: "Workflows" },
  { key: "r", to: "/runs", name: "Runs" },
  { key: "u", to: "/upcoming", name: "Upcoming" },
  { key: "b", to: "/backfills", name: "Backfills" },
  { key: "m", to: "/map", name: "Map" },
  { key: "e", to: "/events", name: "Events" },
  { key: "d", to: "/datasets", name: "Data sets" },
  { key: "k", to: "/workers", name: "Workers" },
];

const typing = (target: EventTarget | null) => target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));

/** step moves the focus to the next or the one before of what j and k go through. */
function step(by: 1 | -1) {
  const rows = [...document.querySelectorAll<HTMLElement>("[data-row]")].filter((row) => row.offsetParent !== null);
  const at = rows.findIndex((row) => row.contains(document.activeElement));
  const next = rows[at < 0 ? (by > 0 ? 0 : rows.length - 1) : Math.min(rows.length - 1, Math.max(0, at + by))];
  const into = next?.matches("a, button") ? next : next?.querySelector<HTMLElement>("a, button");
  into?.focus();
  into?.scrollIntoView({ block: "nearest" });
}

/**
 * useKeys listens for the keys that work on every page: j and k go through rows, / to the filter, g and a letter
 * to a page, Control or Command with k opens the palette, ? tells of all.
 */
export function useKeys(act: { go: (to: string) => void; palette: () => void; help: () => void }) {
  useEffect(() => {
    let before = "";
    const pressed = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key === "k") {
        event.preventDefault();
        act.palette();
        return;
      }
      if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target) || document.querySelector("[role=dialog]")) return;
      const place = before === "g" ? places.find((p) => p.key === event.key) : undefined;
      before = place ? "" : event.key;
      if (place) act.go(place.to);
      else if (event.key === "j") step(1);
      else if (event.key === "k") step(-1);
      else if (event.key === "?") act.help();
      else if (event.key === "/") {
        const filter = document.querySelector<HTMLElement>("[data-filter]");
        event.preventDefault();
        if (filter) filter.focus();
        else act.palette();
      }
    };
    addEventListener("keydown", pressed);
    return () => removeEventListener("keydown", pressed);
  }, [act]);
}
