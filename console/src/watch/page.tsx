import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowUp, Columns2, LayoutDashboard, Maximize2, Plus, X } from "lucide-react";
import { useState } from "react";
import { call, type Watch } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { useAddress } from "../parts/address";
import { Button } from "../parts/button";
import { CopyButton } from "../parts/copy";
import { Empty, Loading, NotShown } from "../parts/notes";
import { filters, kinds, readPanels, usual, writePanels, type Kind, type Panel } from "./arrangement";
import { Failing, HeldPanel, Late, Next, NoWorkflows, NumbersPanel, Running } from "./panels";
import { StripPanel } from "./strip";

type Choice = Partial<Record<(typeof filters)[number], string>>;

const queryOf = (choice: Choice) => {
  const query = new URLSearchParams();
  for (const f of filters) if (choice[f]) query.set(f, choice[f]);
  return query.toString();
};

const useWatch = (choice: Choice) => {
  const query = queryOf(choice);
  return useQuery({ queryKey: ["watch", query], queryFn: () => call<Watch>("GET", `/watch?${query}`), placeholderData: (before) => before });
};

/** WatchPage tells what is broken, late, held and running, and what is due next, as its reader has arranged it. */
export function WatchPage() {
  useLive(undefined, gatherLong);
  const [query, set] = useAddress();
  const [arranging, setArranging] = useState(false);
  const kept = useQuery({ queryKey: ["view", "watch"], queryFn: () => call<{ body: string }>("GET", "/views/watch"), staleTime: Infinity });
  const queries = useQueryClient();
  const keep = useMutation({
    mutationFn: (body: string) => call("PUT", "/views/watch", { body }),
    onSuccess: (_, body) => queries.setQueryData(["view", "watch"], { body }),
  });
  const choice: Choice = {};
  for (const f of filters) choice[f] = query.get(f) ?? "";
  const watch = useWatch(choice);
  if (watch.error) return <NotShown error={watch.error} what="What is going on cannot be read" />;
  if (watch.isPending || kept.isPending) return <Loading what="what is going on" />;
  const w = watch.data;
  const text = query.get("panels") ?? (kept.data?.body || usual);
  const panels = readPanels(text);
  const arrange = (next: Panel[]) => set({ panels: writePanels(next) });
  const failing = w.failing.length;
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
        <h1 className="text-2xl font-semibold tracking-tight">Watch</h1>
        <p className="flex flex-wrap gap-x-5 gap-y-1 font-medium">
          {failing > 0 ? <Says state="failed">✕ {failing} failing</Says> : <Says state="succeeded">● nothing failing</Says>}
          {w.late.total + w.datasets.length > 0 && <Says state="waiting">◷ {w.late.total + w.datasets.length} late</Says>}
          {w.held.length > 0 && <Says state="held">◇ {w.held.length} {w.held.length === 1 ? "needs" : "need"} a person</Says>}
          <Says state={w.running.total ? "running" : "idle"}>◐ {w.running.total} running</Says>
        </p>
        <div className="ml-auto flex flex-wrap items-center gap-2">
          {filters.map((f) => (
            <Filter key={f} name={f} value={choice[f] ?? ""} all={w.choices[`${f}s`]} onChange={(value) => set({ [f]: value })} first={f === "owner"} />
          ))}
          <Button look="bare" aria-pressed={arranging} onClick={() => setArranging(!arranging)} className="aria-pressed:bg-raised aria-pressed:text-ink">
            <LayoutDashboard size={16} /> Arrange
          </Button>
        </div>
      </div>
      {w.problem && (
        <div role="alert" className="mb-4 rounded-xl border border-failed/60 bg-surface px-4 py-3 text-failed">
          ✕ The service itself: {w.problem}
        </div>
      )}
      {arranging && (
        <Arranging
          panels={panels}
          address={`${location.origin}/?${new URLSearchParams({ ...Object.fromEntries(query), panels: writePanels(panels) })}`}
          onChange={arrange}
          onKeep={() => {
            keep.mutate(writePanels(panels));
            set({ panels: "" });
            setArranging(false);
          }}
          onReset={() => {
            keep.mutate("");
            set({ panels: "" });
          }}
        />
      )}
      {w.choices.workflows.length === 0 ? (
        <Empty title="No workflows yet">
          <NoWorkflows />
        </Empty>
      ) : (
        <div className="grid grid-cols-1 gap-4 lg:grid-cols-2">
          {panels.map((panel, i) => (
            <PanelBox key={`${panel.kind} ${i}`} panel={panel} watch={w} choice={choice} />
          ))}
          {panels.length === 0 && (
            <Empty title="There is no panel">
              Press <span className="text-ink">Arrange</span> and add one.
            </Empty>
          )}
        </div>
      )}
    </>
  );
}

function Says({ state, children }: { state: string; children: React.ReactNode }) {
  return (
    <span data-state={state} className="state-colour whitespace-nowrap">
      {children}
    </span>
  );
}

function Filter({ name, value, all, onChange, first }: { name: string; value: string; all: string[]; onChange: (value: string) => void; first: boolean }) {
  if (all.length === 0 && !value) return null;
  return (
    <label className="flex items-center gap-1.5 text-soft">
      <span className="sr-only">Only this {name}</span>
      <select
        {...(first && { "data-filter": true })}
        className={`h-9 max-w-44 rounded-lg border border-line bg-surface px-2.5 ${value ? "text-ink" : "text-soft"}`}
        value={value}
        onChange={(event) => onChange(event.target.value)}
      >
        <option value="">any {name}</option>
        {[...new Set([...all, ...(value ? [value] : [])])].map((one) => (
          <option key={one} value={one}>
            {one}
          </option>
        ))}
      </select>
    </label>
  );
}

/** PanelBox is one panel; one with a filter of its own reads for itself. */
function PanelBox({ panel, watch, choice }: { panel: Panel; watch: Watch; choice: Choice }) {
  const own: Choice = { ...choice };
  for (const f of filters) if (panel[f]) own[f] = panel[f];
  const filtered = filters.some((f) => panel[f] && panel[f] !== choice[f]);
  return (
    <section aria-label={kinds[panel.kind]} className={`min-w-0 overflow-hidden rounded-xl border border-line bg-surface ${panel.wide ? "lg:col-span-2" : ""}`}>
      <h2 className="flex items-baseline gap-3 border-b border-line px-4 py-2.5 font-semibold">
        {kinds[panel.kind]}
        <span className="text-[0.87rem] font-normal text-soft">{filters.flatMap((f) => (panel[f] ? [`${f} ${panel[f]}`] : [])).join(", ")}</span>
      </h2>
      {filtered ? <Filtered kind={panel.kind} choice={own} /> : <Content kind={panel.kind} watch={watch} />}
    </section>
  );
}

function Filtered({ kind, choice }: { kind: Kind; choice: Choice }) {
  const watch = useWatch(choice);
  if (watch.error) return <p className="px-4 py-4 text-failed">✕ {watch.error.message}</p>;
  return watch.data ? <Content kind={kind} watch={watch.data} /> : <p className="px-4 py-4 text-soft">Reading…</p>;
}

function Content({ kind, watch }: { kind: Kind; watch: Watch }) {
  switch (kind) {
    case "numbers":
      return <NumbersPanel watch={watch} />;
    case "strip":
      return <StripPanel strip={watch.strip} />;
    case "failing":
      return <Failing watch={watch} />;
    case "late":
      return <Late watch={watch} />;
    case "held":
      return <HeldPanel watch={watch} />;
    case "running":
      return <Running watch={watch} />;
    case "next":
      return <Next watch={watch} />;
  }
}

/** Arranging orders the panels, sizes them, filters them, and adds and takes away. */
function Arranging(props: { panels: Panel[]; address: string; onChange: (panels: Panel[]) => void; onKeep: () => void; onReset: () => void }) {
  const { panels, address, onChange, onKeep, onReset } = props;
  const put = (i: number, panel: Panel) => onChange(panels.map((p, n) => (n === i ? panel : p)));
  const move = (i: number, by: number) => {
    const next = [...panels];
    const [one] = next.splice(i, 1);
    if (one) next.splice(i + by, 0, one);
    onChange(next);
  };
  const choices = useQuery({ queryKey: ["watch", ""], queryFn: () => call<Watch>("GET", "/watch") }).data?.choices;
  return (
    <section aria-label="Arrange the panels" className="mb-4 rounded-xl border border-lamp/60 bg-surface px-4 py-4">
      <ul className="flex flex-col gap-1.5">
        {panels.map((p, i) => (
          <li key={i} className="flex flex-wrap items-center gap-x-2 gap-y-1">
            <span className="w-40 font-medium">{kinds[p.kind]}</span>
            <Button look="bare" className="px-2" aria-label={`${kinds[p.kind]} further up`} disabled={i === 0} onClick={() => move(i, -1)}>
              <ArrowUp size={15} />
            </Button>
            <Button look="bare" className="px-2" aria-label={`${kinds[p.kind]} further down`} disabled={i === panels.length - 1} onClick={() => move(i, 1)}>
              <ArrowDown size={15} />
            </Button>
            <Button look="bare" className="w-32 px-2" onClick={() => put(i, { ...p, wide: !p.wide })}>
              {p.wide ? <Maximize2 size={15} /> : <Columns2 size={15} />} {p.wide ? "all of it" : "half"}
            </Button>
            {filters.map((f) => (
              <label key={f} className="flex items-center gap-1.5">
                <span className="sr-only">
                  {kinds[p.kind]}, only this {f}
                </span>
                <select
                  className="h-9 max-w-40 rounded-lg border border-line bg-surface px-2 text-soft"
                  value={p[f] ?? ""}
                  onChange={(event) => put(i, { ...p, [f]: event.target.value })}
                >
                  <option value="">page&rsquo;s {f}</option>
                  {[...new Set([...(choices?.[`${f}s`] ?? []), ...(p[f] ? [p[f]] : [])])].map((one) => (
                    <option key={one} value={one}>
                      {one}
                    </option>
                  ))}
                </select>
              </label>
            ))}
            <Button look="bare" className="px-2" aria-label={`Take ${kinds[p.kind]} away`} onClick={() => onChange(panels.filter((_, n) => n !== i))}>
              <X size={15} />
            </Button>
          </li>
        ))}
      </ul>
      <div className="mt-3 flex flex-wrap items-center gap-2 border-t border-line pt-3">
        {(Object.keys(kinds) as Kind[]).map((kind) => (
          <Button key={kind} look="bare" className="px-2" onClick={() => onChange([...panels, { kind, wide: false }])}>
            <Plus size={14} /> {kinds[kind]}
          </Button>
        ))}
        <span className="ml-auto flex items-center gap-2">
          <span className="text-soft">
            Address <CopyButton text={address} what="the address of this arrangement" />
          </span>
          <Button onClick={onReset}>As it came</Button>
          <Button look="lamp" onClick={onKeep}>
            Keep it for me
          </Button>
        </span>
      </div>
    </section>
  );
}
