import { useQuery } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { useSearchParams } from "react-router";
import { call, type Broken } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { Empty, Loading, Trouble } from "../parts/notes";
import { Table } from "../parts/table";
import { FailingRow } from "../watch/panels";

/** FailuresPage is what is broken, grouped by the same error, or what was. */
export function FailuresPage() {
  useLive(undefined, gatherLong);
  const [query, setQuery] = useSearchParams();
  const closed = query.get("which") === "closed";
  const list = useQuery({ queryKey: ["troubles", closed], queryFn: () => call<{ troubles: Broken[] }>("GET", `/troubles?closed=${closed}`) });
  return (
    <>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Failures</h1>
      <Tabs.Root value={closed ? "closed" : "open"} onValueChange={(which) => setQuery(which === "closed" ? { which } : {}, { replace: true })}>
        <Tabs.List aria-label="Which" className="mb-4 flex gap-1">
          {["open", "closed"].map((which) => (
            <Tabs.Trigger key={which} value={which} className="rounded-lg px-3 py-1.5 font-medium text-soft capitalize hover:text-ink data-[state=active]:bg-raised data-[state=active]:text-ink">
              {which}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        {["open", "closed"].map((which) => (
          <Tabs.Content key={which} value={which}>
            {list.error && <Trouble error={list.error} what="The failures cannot be read" />}
            {list.isPending && <Loading what="the failures" />}
            {list.data?.troubles.length === 0 &&
              (closed ? (
                <Empty title="No trouble has been closed yet">One closes itself when its windows have succeeded.</Empty>
              ) : (
                <Empty title="Nothing is broken">What fails is listed here, grouped by the same error.</Empty>
              ))}
            {!!list.data?.troubles.length && (
              <Table label="Failures" heads={["Where", "What is wrong", "Since", "Without data", ""]}>
                {list.data.troubles.map((t) => (
                  <FailingRow key={t.number} t={t} />
                ))}
              </Table>
            )}
          </Tabs.Content>
        ))}
      </Tabs.Root>
    </>
  );
}
