import { memo, useMemo } from "react";
import type { Ribbon as RibbonData } from "../api/client";

const colours: Record<string, string> = { "●": "--succeeded", "✕": "--failed", "◐": "--running", "◑": "--running", "◌": "--waiting", "◇": "--waiting", "◔": "--ready" };
const words: Record<string, string> = { "●": "succeeded", "✕": "failed", "◐": "running", "◑": "cooling", "◌": "waiting", "◇": "held", "◔": "ready", "–": "skipped", "○": "unreached", "■": "stopped", "·": "idle" };

const height = 16; // pixels

/** pathsOf draws each task as a bar, all of one colour as one path. */
function pathsOf(ribbon: RibbonData, width: number, longest: number, aligned: boolean): [string, string][] {
  const paths = new Map<string, string>();
  const total = ribbon.seconds.reduce((n, s) => n + s, 0);
  const slot = width / Math.max(1, ribbon.seconds.length);
  const scale = total > 0 ? (width * Math.min(1, total / longest)) / total : 0;
  let x = 0;
  [...ribbon.states].forEach((glyph, i) => {
    const seconds = ribbon.seconds[i] ?? 0;
    const quiet = !(glyph in colours);
    const w = aligned ? slot : Math.max(glyph === "✕" ? 3 : quiet ? 0 : 1, seconds * scale);
    const high = quiet ? 3 : aligned ? Math.max(4, height * Math.min(1, Math.sqrt(seconds / longest))) : height - 4;
    const y = aligned ? height - high : (height - high) / 2;
    if (w > 0) {
      const colour = colours[glyph] ?? "--line";
      paths.set(colour, `${paths.get(colour) ?? ""}M${x.toFixed(1)} ${y.toFixed(1)}h${Math.max(w - (w > 3 ? 1 : 0.2), 0.5).toFixed(1)}v${high.toFixed(1)}H${x.toFixed(1)}z`);
    }
    x += w;
  });
  return [...paths];
}

/** textOf says how many tasks are in each state. */
function textOf(ribbon: RibbonData): string {
  const counted = new Map<string, number>();
  for (const s of ribbon.states) counted.set(s, (counted.get(s) ?? 0) + 1);
  return [...counted].map(([s, n]) => `${n} ${words[s] ?? s}`).join(", ");
}

/**
 * Ribbon draws the tasks of a run side by side: their lengths by how long they took, or aligned, each in a place of
 * its own so that the same task stands under itself from run to run.
 */
export const Ribbon = memo(function Ribbon({ ribbon, width, longest, aligned }: { ribbon: RibbonData; width: number; longest: number; aligned: boolean }) {
  const paths = useMemo(() => pathsOf(ribbon, width, longest, aligned), [ribbon, width, longest, aligned]);
  const text = useMemo(() => textOf(ribbon), [ribbon]);
  return (
    <svg role="img" aria-label={text} width={width} height={height} className="block">
      {paths.map(([colour, path]) => (
        <path key={colour} d={path} fill={`var(${colour})`} fillOpacity={colour === "--succeeded" ? 0.8 : 1} />
      ))}
    </svg>
  );
});
