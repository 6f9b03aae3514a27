import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Workflow } from "../api/client";
import { Glyph } from "./state";
import { windowText } from "./time";

type Mark = Workflow["recent"][number];

const describe = (run: Mark) => `${run.id} ${run.state}${run.window ? `, ${windowText(run.window)}` : ""}`;

const seen = new WeakMap<Element, () => void>();
let observer: IntersectionObserver | undefined;

/** useInSight is true from the moment on at which the element comes near to what is seen. */
function useInSight(element: React.RefObject<Element | null>): boolean {
  const [came, setCame] = useState(false);
  useEffect(() => {
    const here = element.current;
    if (!here || came) return;
    observer ??= new IntersectionObserver(
      (entries) => {
        for (const entry of entries) if (entry.isIntersecting) seen.get(entry.target)?.();
      },
      { rootMargin: "600px" },
    );
    seen.set(here, () => setCame(true));
    observer.observe(here);
    return () => observer?.unobserve(here);
  }, [element, came]);
  return came;
}

/** Strip is the newest runs of a workflow, oldest first, each a mark to open it by. */
export function Strip({ runs }: { runs: Mark[] }) {
  const box = useRef<HTMLSpanElement>(null);
  const near = useInSight(box); // among thousands of marks only those are made that may be seen
  if (runs.length === 0) return <span className="text-soft">no runs yet</span>;
  return (
    <span ref={box} className="inline-flex h-[24px]">
      {near &&
        runs.slice(0, 12).reverse().map((run) => (
        <Link key={run.id} to={`/runs/${run.id}`} title={describe(run)} aria-label={describe(run)} className="grid size-[24px] place-items-center rounded text-[0.87rem] leading-none hover:bg-raised">
          <Glyph state={run.state} />
        </Link>
        ))}
    </span>
  );
}
