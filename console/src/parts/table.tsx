import type { ComponentProps, ReactNode } from "react";

/** On a phone a row of a panel is a block, its cells under each other. */
const stacked = "max-sm:[&_thead]:sr-only max-sm:[&_tr]:block max-sm:[&_tr]:py-2 max-sm:[&_td]:block max-sm:[&_td]:w-auto max-sm:[&_td]:min-w-0 max-sm:[&_td]:py-0.5 max-sm:[&_td]:whitespace-normal";

/** Table is a quiet table: hairlines between rows, heads in small type; plain where it stands in a panel. */
export function Table({ heads, children, label, plain }: { heads: ReactNode[]; children: ReactNode; label: string; plain?: boolean }) {
  return (
    <div className={`relative overflow-x-auto ${plain ? stacked : "rounded-xl border border-line bg-surface"}`} tabIndex={0} {...(!plain && { role: "region", "aria-label": label })}>
      <table aria-label={label} className="w-full border-collapse text-left">
        <thead>
          <tr className="border-b border-line text-[0.8rem] text-soft">
            {heads.map((head, i) => (
              <th key={i} scope="col" className="px-4 py-2.5 font-medium whitespace-nowrap">
                {head || <span className="sr-only">more</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody className="[&>tr:last-child]:border-0">{children}</tbody>
      </table>
    </div>
  );
}

/** Row is a row that j and k go through. */
export function Row({ className = "", ...rest }: ComponentProps<"tr">) {
  return <tr data-row className={`border-b border-line/70 focus-within:bg-raised/60 hover:bg-raised/60 ${className}`} {...rest} />;
}

export function Cell({ className = "", ...rest }: ComponentProps<"td">) {
  return <td className={`px-4 py-2.5 align-middle ${className}`} {...rest} />;
}
