import { Link } from "react-router";
import type { Workflow } from "../api/client";
import { Glyph } from "./state";
import { windowText } from "./time";

type Mark = Workflow["recent"][number];

const describe = (run: Mark) => `${run.id} ${run.state}${run.window ? `, ${windowText(run.window)}` : ""}`;

/** Strip is the newest runs of a workflow, oldest first, each a mark to open it by. */
export function Strip({ runs }: { runs: Mark[] }) {
  if (runs.length === 0) return <span className="text-soft">no runs yet</span>;
  return (
    <span className="inline-flex">
      {runs.slice(0, 12).reverse().map((run) => (
        <Link key={run.id} to={`/runs/${run.id}`} title={describe(run)} aria-label={describe(run)} className="grid size-[24px] place-items-center rounded text-[0.87rem] leading-none hover:bg-raised">
          <Glyph state={run.state} />
        </Link>
      ))}
    </span>
  );
}
