import { useQuery } from "@tanstack/react-query";
import { Dialog as Radix } from "radix-ui";
import { useId, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { call, type Run, type Watch } from "../api/client";
import { places } from "./keys";
import { setTheme, currentTheme } from "./theme";
import { nextClock } from "./time";

interface Choice {
  name: string;
  about: string;
  act: () => void;
}

const mostChoices = 12;

/** score tells how well what was typed fits: less is better, undefined is not at all. */
function score(name: string, typed: string): number | undefined {
  const at = name.toLowerCase().indexOf(typed);
  if (at >= 0) return at;
  let from = 0; // the letters in their order, with gaps
  for (const letter of typed) {
    from = name.toLowerCase().indexOf(letter, from) + 1;
    if (from === 0) return undefined;
  }
  return 100 + from;
}

/** Palette goes anywhere and does what is done on every page, by a few letters. */
export function Palette({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  return (
    <Radix.Root open={open} onOpenChange={onOpenChange}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-black/55" />
        <Radix.Content aria-describedby={undefined} className="fixed top-[12vh] left-1/2 z-50 w-[min(36rem,94vw)] -translate-x-1/2 overflow-hidden rounded-xl border border-line bg-surface shadow-(--shadow)">
          <Radix.Title className="sr-only">Go to</Radix.Title>
          <Choices close={() => onOpenChange(false)} />
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

function Choices({ close }: { close: () => void }) {
  const [typed, setTyped] = useState("");
  const [place, setPlace] = useState(0);
  const navigate = useNavigate();
  const id = useId();
  const watch = useQuery({ queryKey: ["watch", ""], queryFn: () => call<Watch>("GET", "/watch"), staleTime: 30_000 });
  const asRun = /^[a-z][a-z0-9-]*:\d+$/.test(typed.trim()) ? typed.trim() : undefined;
  const run = useQuery({ queryKey: ["run", asRun], queryFn: () => call<Run>("GET", `/runs/${encodeURIComponent(asRun ?? "")}?fold=true`), enabled: !!asRun, retry: false });
  const all = useMemo(() => {
    const go = (to: string) => () => {
      close();
      void navigate(to);
    };
    const list: Choice[] = [];
    for (const t of watch.data?.failing ?? []) list.push({ name: `${t.workflow}${t.task && ` / ${t.task}`}`, about: "trouble", act: go(`/failures/${t.number}`) });
    for (const h of watch.data?.held ?? []) list.push({ name: `${h.run} ${h.task}`, about: "needs a person", act: go(`/runs/${h.run}?task=${encodeURIComponent(h.task)}`) });
    for (const w of watch.data?.choices.workflows ?? []) list.push({ name: w, about: "workflow", act: go(`/workflows/${w}`) });
    for (const r of watch.data?.running.runs ?? []) list.push({ name: r.id, about: "running", act: go(`/runs/${r.id}`) });
    for (const p of places) list.push({ name: p.name, about: `page, g ${p.key}`, act: go(p.to) });
    list.push(
      {
        name: "Other theme",
        about: "light or dark",
        act: () => {
          setTheme(currentTheme() === "dark" ? "light" : "dark");
          close();
        },
      },
      {
        name: "Times another way",
        about: "here, the rule's zone, UTC, how long ago",
        act: () => {
          nextClock();
          close();
        },
      },
    );
    return list;
  }, [watch.data, navigate, close]);
  const wanted = typed.trim().toLowerCase();
  const found = all
    .flatMap((c) => {
      const n = wanted === "" ? 0 : score(c.name, wanted);
      return n === undefined ? [] : [{ c, n }];
    })
    .sort((a, b) => a.n - b.n)
    .map(({ c }) => c);
  if (run.data) found.unshift({ name: run.data.id, about: `run, ${run.data.state}`, act: () => (close(), void navigate(`/runs/${run.data.id}`)) });
  const shown = found.slice(0, mostChoices);
  const at = Math.min(place, shown.length - 1);
  return (
    <>
      <input
        autoFocus
        role="combobox"
        aria-label="Go to a page, workflow or run"
        aria-expanded
        aria-controls={`${id}-list`}
        aria-activedescendant={shown.length ? `${id}-${at}` : undefined}
        placeholder="A page, a workflow, a run as gauge-hourly:412"
        className="w-full border-b border-line bg-transparent px-5 py-3.5 outline-none placeholder:text-soft"
        value={typed}
        onChange={(event) => {
          setTyped(event.target.value);
          setPlace(0);
        }}
        onKeyDown={(event) => {
          if (event.key === "ArrowDown") setPlace(Math.min(at + 1, shown.length - 1));
          else if (event.key === "ArrowUp") setPlace(Math.max(at - 1, 0));
          else if (event.key === "Enter") shown[at]?.act();
          else return;
          event.preventDefault();
        }}
      />
      <ul id={`${id}-list`} role="listbox" aria-label="What fits" className="max-h-[50vh] overflow-auto py-1.5">
        {shown.map((c, i) => (
          <li
            key={`${c.about} ${c.name}`}
            id={`${id}-${i}`}
            role="option"
            aria-selected={i === at}
            className="mx-1.5 flex cursor-pointer gap-4 rounded-lg px-3.5 py-2 aria-selected:bg-raised"
            onMouseMove={() => setPlace(i)}
            onClick={c.act}
          >
            <span className="truncate">{c.name}</span>
            <span className="ml-auto whitespace-nowrap text-soft">{c.about}</span>
          </li>
        ))}
        {shown.length === 0 && <li className="px-5 py-3 text-soft">Nothing fits. A run is named as gauge-hourly:412.</li>}
      </ul>
    </>
  );
}
