import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link, useSearchParams } from "react-router";
import { call, type MapLink } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import MapGraph, { kindOf, nameOf } from "../graph/map";
import { Button } from "../parts/button";
import { Command, Empty, Loading, NotShown } from "../parts/notes";
import { Cell, Row, Table } from "../parts/table";

/** reach follows the arrows from one node, up or down. */
function reach(links: MapLink[], from: string, up: boolean): Set<string> {
  const found = new Set([from]);
  const todo = [from];
  for (let at = todo.pop(); at !== undefined; at = todo.pop()) {
    for (const link of links) {
      const [here, there] = up ? [link.to, link.from] : [link.from, link.to];
      if (here === at && !found.has(there)) {
        found.add(there);
        todo.push(there);
      }
    }
  }
  return found;
}

const verbs: Record<string, string> = { starts: "starts", waits: "is waited for by", updates: "updates", asks: "is asked about by" };

/** MapPage draws which workflow feeds which: through data sets, waits and starts. */
export function MapPage() {
  useLive(undefined, gatherLong);
  const [query, setQuery] = useSearchParams();
  const list = useQuery({ queryKey: ["links"], queryFn: () => call<{ links: MapLink[] }>("GET", "/links") });
  const at = query.get("of") ?? "";
  const links = useMemo(() => list.data?.links ?? [], [list.data]);
  const nodes = useMemo(() => [...new Set(links.flatMap((l) => [l.from, l.to]))].sort(), [links]);
  const followed = at && nodes.includes(at) ? at : "";
  const shown = useMemo(() => {
    if (!followed) return links;
    const near = new Set([...reach(links, followed, true), ...reach(links, followed, false)]);
    return links.filter((l) => near.has(l.from) && near.has(l.to));
  }, [links, followed]);
  const set = (of: string) => setQuery(of ? { of } : {}, { replace: true });
  if (list.error) return <NotShown error={list.error} what="The map cannot be read" />;
  if (list.isPending) return <Loading what="the map" />;
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-5 gap-y-2">
        <h1 className="text-2xl font-semibold tracking-tight">Map</h1>
        <label className="flex items-center gap-2 text-soft">
          Follow
          <select data-filter className="h-9 max-w-72 rounded-lg border border-line bg-surface px-2.5 text-ink" value={followed} onChange={(event) => set(event.target.value)}>
            <option value="">everything</option>
            {nodes.map((n) => (
              <option key={n} value={n}>
                {nameOf(n)} ({kindOf(n)})
              </option>
            ))}
          </select>
        </label>
        {followed && (
          <>
            <Button look="bare" onClick={() => set("")}>
              Show everything
            </Button>
            {kindOf(followed) === "workflow" && (
              <Link className="text-soft hover:text-ink hover:underline" to={`/workflows/${nameOf(followed)}`}>
                Open {nameOf(followed)}
              </Link>
            )}
            {kindOf(followed) === "data set" && (
              <Link className="text-soft hover:text-ink hover:underline" to={`/datasets/${nameOf(followed)}`}>
                Open {nameOf(followed)}
              </Link>
            )}
          </>
        )}
      </div>
      {links.length === 0 ? (
        <Empty title="Nothing leads from one workflow to another yet">
          Workflows meet where one starts or waits for another, or in a data set: <Command>updates: [readings/clean]</Command>
        </Empty>
      ) : (
        <>
          <section aria-label="Map" className="mb-5 h-[30rem] overflow-hidden rounded-xl border border-line bg-surface">
            <MapGraph links={shown} chosen={followed} onChoose={set} />
          </section>
          <Table label="Arrows" heads={["From", "", "To", "By the task"]}>
            {shown.map((l, i) => (
              <Row key={i}>
                <Cell className="whitespace-nowrap">
                  <Node name={l.from} onChoose={set} />
                </Cell>
                <Cell className="whitespace-nowrap text-soft">{verbs[l.kind] ?? l.kind}</Cell>
                <Cell className="whitespace-nowrap">
                  <Node name={l.to} onChoose={set} />
                </Cell>
                <Cell className="w-full text-soft">{l.task || "–"}</Cell>
              </Row>
            ))}
          </Table>
        </>
      )}
    </>
  );
}

function Node({ name, onChoose }: { name: string; onChoose: (name: string) => void }) {
  return (
    <button type="button" className="hover:underline" onClick={() => onChoose(name)}>
      <span className="text-soft">{kindOf(name)}</span> {nameOf(name)}
    </button>
  );
}
