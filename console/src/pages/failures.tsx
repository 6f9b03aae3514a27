import { useQuery } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { useSearchParams } from "react-router";
import { call, type Trouble } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { Empty, Loading, NotShown } from "../parts/notes";
import { Table } from "../parts/table";
import { TabList } from "../parts/tabs";
import { FailingRow } from "../watch/panels";

/** FailuresPage is what is broken, grouped by the same error, or what was. */
export function FailuresPage() {
  useLive(undefined, gatherLong);
  const [query, setQuery] = useSearchParams();
  const closed = query.get("which") === "closed";
  const list = useQuery({ queryKey: ["troubles", closed], queryFn: () => call<{ troubles: Trouble[] }>("GET", `/troubles?closed=${closed}`) });
  return (
    <>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Failures</h1>
      <Tabs.Root value={closed ? "closed" : "open"} onValueChange={(which) => setQuery(which === "closed" ? { which } : {}, { replace: true })}>
        <TabList label="Which" names={{ open: "Open", closed: "Closed" }} className="mb-4" />
        {["open", "closed"].map((which) => (
          <Tabs.Content key={which} value={which}>
            {list.error && <NotShown error={list.error} what="The failures cannot be read" />}
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
