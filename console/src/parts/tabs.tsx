import { Tabs } from "radix-ui";

/** TabList is the row of names above tabs; each by its value. */
export function TabList({ label, names, className = "" }: { label: string; names: Record<string, string>; className?: string }) {
  return (
    <Tabs.List aria-label={label} className={`flex gap-1 ${className}`}>
      {Object.entries(names).map(([value, name]) => (
        <Tabs.Trigger key={value} value={value} className="rounded-lg px-3 py-1.5 font-medium text-soft hover:text-ink data-[state=active]:bg-raised data-[state=active]:text-ink">
          {name}
        </Tabs.Trigger>
      ))}
    </Tabs.List>
  );
}
