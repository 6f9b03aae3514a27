import { useSearchParams } from "react-router";
import { useLive } from "../api/live";
import { StateFilter } from "../parts/state-filter";
import { RunTable } from "./run-table";

export function RunsPage() {
  useLive();
  const [query, setQuery] = useSearchParams();
  const state = query.get("state") ?? undefined;
  return (
    <>
      <div className="mb-5 flex flex-wrap items-center gap-6">
        <h1 className="text-2xl font-semibold tracking-tight">Runs</h1>
        <StateFilter state={state} onChange={(next) => setQuery(next ? { state: next } : {}, { replace: true })} />
      </div>
      <RunTable state={state} />
    </>
  );
}
