/** What can stand on the Watch. */
export const kinds = {
  numbers: "Numbers",
  strip: "Last 24 hours",
  failing: "Failing",
  late: "Late",
  held: "Needs a person",
  running: "Running",
  next: "Due next",
} as const;

export type Kind = keyof typeof kinds;

/** A panel is one of them, half or all of the width, for all workflows or for some. */
export interface Panel {
  kind: Kind;
  wide: boolean;
  owner?: string;
  label?: string;
  project?: string;
}

export const filters = ["owner", "label", "project"] as const;

export const usual = "failing.w~held~late~running~next~strip.w~numbers.w";

/** readPanels reads an arrangement as the address has it; what it does not know it leaves out. */
export function readPanels(text: string): Panel[] {
  return text.split("~").flatMap((part) => {
    const [kind = "", ...rest] = part.split(".");
    if (!(kind in kinds)) return [];
    const panel: Panel = { kind: kind as Kind, wide: rest.includes("w") };
    for (const one of rest) {
      const [name = "", value = ""] = one.split("=");
      const filter = filters.find((f) => f === name);
      if (filter && value) panel[filter] = decodeURIComponent(value);
    }
    return [panel];
  });
}

/** writePanels is what readPanels reads. */
export function writePanels(panels: Panel[]): string {
  return panels
    .map((p) => [p.kind, ...(p.wide ? ["w"] : []), ...filters.flatMap((f) => (p[f] ? [`${f}=${encodeURIComponent(p[f]).replaceAll(".", "%2E").replaceAll("~", "%7E")}`] : []))].join("."))
    .join("~");
}
