import type { ReactNode } from "react";

/** Fact is one thing that is known, under its name; it stands in a dl. */
export function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div>
      <dt className="text-[0.8rem] text-soft">{name}</dt>
      <dd className="mt-0.5">{children}</dd>
    </div>
  );
}
