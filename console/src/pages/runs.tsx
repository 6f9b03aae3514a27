import { gatherLong, useLive } from "../api/live";
import { Logbook } from "./logbook";

/** RunsPage is the logbook of all workflows. */
export function RunsPage() {
  useLive(undefined, gatherLong);
  return <Logbook title={<h1 className="text-2xl font-semibold tracking-tight">Runs</h1>} />;
}
