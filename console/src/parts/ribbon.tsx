import { memo, useEffect, useRef } from "react";
import type { Ribbon as RibbonData } from "../api/client";

const colours: Record<string, string> = { "●": "--succeeded", "✕": "--failed", "◐": "--running", "◑": "--running", "◌": "--waiting", "◇": "--waiting", "◔": "--ready" };
const words: Record<string, string> = { "●": "succeeded", "✕": "failed", "◐": "running", "◑": "cooling", "◌": "waiting", "◇": "held", "◔": "ready", "–": "skipped", "○": "unreached", "■": "stopped", "·": "idle" };

export const ribbonHeight = 16;

/**
 * Ribbon draws the tasks of a run side by side: their lengths by how long they took, or aligned, each in a place of
 * its own so that the same task stands under itself from run to run.
 */
export const Ribbon = memo(function Ribbon({ ribbon, width, longest, aligned, theme }: { ribbon: RibbonData; width: number; longest: number; aligned: boolean; theme: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const states = [...ribbon.states];
  useEffect(() => {
    const element = canvas.current;
    const paint = element?.getContext("2d");
    if (!element || !paint) return;
    const scale = devicePixelRatio;
    element.width = width * scale;
    element.height = ribbonHeight * scale;
    paint.scale(scale, scale);
    paint.clearRect(0, 0, width, ribbonHeight);
    const style = getComputedStyle(document.documentElement);
    const total = ribbon.seconds.reduce((n, s) => n + s, 0);
    const slot = width / Math.max(1, ribbon.seconds.length);
    const wide = total > 0 ? (width * Math.min(1, total / longest)) / total : 0;
    let x = 0;
    [...ribbon.states].forEach((glyph, i) => {
      const seconds = ribbon.seconds[i] ?? 0;
      const w = aligned ? slot : Math.max(glyph === "✕" ? 3 : glyph === "●" || glyph === "◐" ? 1 : 0, seconds * wide);
      if (w > 0) {
        paint.fillStyle = style.getPropertyValue(colours[glyph] ?? "--line").trim();
        const quiet = !(glyph in colours);
        paint.globalAlpha = glyph === "●" ? 0.8 : 1;
        const high = quiet ? 3 : aligned ? Math.max(4, ribbonHeight * Math.min(1, Math.sqrt(seconds / longest))) : ribbonHeight - 4;
        paint.fillRect(x, aligned ? ribbonHeight - high - 1 : (ribbonHeight - high) / 2, Math.max(w - (w > 3 ? 1 : 0.2), 0.5), high);
      }
      x += w;
    });
  }, [ribbon, width, longest, aligned, theme]);
  const counted = new Map<string, number>();
  for (const s of states) counted.set(s, (counted.get(s) ?? 0) + 1);
  const text = [...counted].map(([s, n]) => `${n} ${words[s] ?? s}`).join(", ");
  return <canvas ref={canvas} role="img" aria-label={text} title={text} style={{ width, height: ribbonHeight }} />;
});
