import { ToggleGroup } from "radix-ui";
import type { Run } from "../api/client";
import { Glyph } from "./state";

const choices: Run["state"][] = ["running", "queued", "failed", "stopped", "succeeded"];

/** StateFilter chooses the runs in one state, or none for all. */
export function StateFilter({ state, onChange }: { state: string | undefined; onChange: (state: string) => void }) {
  return (
    <ToggleGroup.Root type="single" aria-label="Only runs that are" value={state ?? ""} onValueChange={onChange} className="flex flex-wrap gap-1">
      {choices.map((choice) => (
        <ToggleGroup.Item
          key={choice}
          value={choice}
          className="inline-flex h-8 items-center gap-1.5 rounded-lg px-2.5 text-soft hover:text-ink aria-checked:bg-raised aria-checked:text-ink"
        >
          <Glyph state={choice} />
          {choice}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}
