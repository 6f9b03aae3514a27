import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { call, runPath, type Question, type Run, type Task, type Wait } from "../api/client";
import { Button } from "../parts/button";
import { Empty, Loading, NotShown } from "../parts/notes";
import { Cell, Row, Table } from "../parts/table";
import { Moment, Took, Until } from "../parts/time";
import { ActDialog } from "./actions";
import { valueText } from "./items";

const useWaits = (run: string) => useQuery({ queryKey: ["waits", run], queryFn: () => call<{ waits: Wait[] }>("GET", `/waits?run=${encodeURIComponent(run)}`) });

/** Awaited is what a parked task waits for, and the question if it asks one. */
export function Awaited({ run, task }: { run: Run; task: Task }) {
  const waits = useWaits(run.id);
  const list = (waits.data?.waits ?? []).filter((w) => w.task === task.name);
  if (waits.error) return <NotShown error={waits.error} what="What it waits for cannot be read" />;
  const question = list[0]?.question;
  if (question) return <Ask run={run} task={task} question={question} until={list[0]?.until} />;
  return (
    <ul aria-label="What it waits for" className="border-b border-line px-5 py-2.5">
      {list.map((w, i) => (
        <li key={i} className="flex flex-wrap gap-x-6 gap-y-1 py-1">
          <span data-state={w.state === "came" ? "succeeded" : w.state === "failed" ? "failed" : "waiting"} className="state-colour">
            {w.state === "came" ? "●" : w.state === "failed" ? "✕" : "◌"} {w.name ? `${w.name}: ` : ""}
            {w.for}
          </span>
          {w.state === "waiting" && <Looked w={w} />}
        </li>
      ))}
    </ul>
  );
}

function Looked({ w }: { w: Wait }) {
  return (
    <span className="flex flex-wrap gap-x-6 text-soft">
      <span>
        for <Took start={w.since} />
        {w.until && (
          <>
            , until <Moment at={w.until} />
          </>
        )}
      </span>
      {w.seen && <span>seen last: {w.seen}</span>}
      {w.next && (
        <span>
          looked at again <Until at={w.next} />
        </span>
      )}
    </span>
  );
}

/** Shown is what is shown beside a question. */
export function Shown({ question }: { question: Question }) {
  const shown = Object.entries(question.show ?? {});
  if (shown.length === 0) return null;
  return (
    <dl className="grid grid-cols-[max-content_1fr] gap-x-5 gap-y-1">
      {shown.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-soft">{name}</dt>
          <dd className="font-mono text-[0.9rem] break-words">{Array.isArray(value) ? value.map(valueText).join(", ") : valueText(value)}</dd>
        </div>
      ))}
    </dl>
  );
}

/** Reason is the field for why somebody answers as they do. */
export function Reason({ value, onChange }: { value: string; onChange: (text: string) => void }) {
  return (
    <label className="flex min-w-64 grow flex-col gap-1.5">
      <span className="text-soft">Why (recorded with your answer)</span>
      <input value={value} onChange={(event) => onChange(event.target.value)} maxLength={2000} className="h-9 rounded-lg border border-line bg-surface px-3" />
    </label>
  );
}

function Ask({ run, task, question, until }: { run: Run; task: Task; question: Question; until: string | undefined }) {
  const [reason, setReason] = useState("");
  const said = reason ? ` --reason '${reason.replaceAll("'", "'\\''")}'` : "";
  const answer = (word: "yes" | "no") => (
    <ActDialog
      trigger={<Button look={word === "yes" ? "lamp" : "plain"}>{word === "yes" ? "Yes" : "No"}</Button>}
      title={`Say ${word}?`}
      about={
        <>
          <span className="text-ink">{question.ask}</span> Your name and your reason are recorded, and the run goes on at once.
        </>
      }
      command={`lantern approve ${run.id} ${task.name}${word === "no" ? " --no" : ""}${said}`}
      path={`${runPath(run.id)}/answer`}
      body={{ task: task.name, answer: word, reason }}
      verb={word === "yes" ? "Say yes" : "Say no"}
      leave="Not yet"
    />
  );
  return (
    <div className="border-b border-line px-5 py-4">
      <p className="flex flex-wrap items-baseline gap-x-5">
        <span className="text-lg font-medium">{question.ask}</span>
        <span className="text-soft">
        {question.from ? `Asks ${question.from.join(" or ")}` : "Asks everybody"}
        {until && (
          <>
            , until <Moment at={until} />
          </>
        )}
        </span>
      </p>
      <div className="mt-2 flex flex-wrap items-end gap-x-10 gap-y-3">
        <Shown question={question} />
        <div className="flex max-w-2xl grow items-end gap-2">
          <Reason value={reason} onChange={setReason} />
          {answer("yes")}
          {answer("no")}
        </div>
      </div>
    </div>
  );
}

/** WaitList is everything that is awaited, the longest first. */
export function WaitList() {
  const waits = useWaits("");
  if (waits.error) return <NotShown error={waits.error} what="What is awaited cannot be read" />;
  if (waits.isPending) return <Loading what="what is awaited" />;
  if (waits.data.waits.length === 0) return <Empty title="Nothing is awaited">Tasks that wait for a file, an event, a data set, another workflow or an answer are listed here.</Empty>;
  return (
    <Table label="What is awaited" heads={["Run", "Task", "For", "Since", "Until", "Seen last"]}>
      {waits.data.waits.map((w, i) => (
        <Row key={i}>
          <Cell className="whitespace-nowrap">
            <Link to={`/runs/${w.run}?task=${encodeURIComponent(w.task)}`} className="font-medium hover:underline">
              {w.run}
            </Link>
          </Cell>
          <Cell className="whitespace-nowrap">{w.task}</Cell>
          <Cell className="max-w-md">
            <span data-state="waiting" className="state-colour" aria-hidden>
              ◌{" "}
            </span>
            {w.name ? `${w.name}: ` : ""}
            {w.for}
          </Cell>
          <Cell className="whitespace-nowrap">
            <Took start={w.since} />
          </Cell>
          <Cell className="whitespace-nowrap">
            <Moment at={w.until} />
          </Cell>
          <Cell className="max-w-md text-soft">
            {w.question ? `asks ${w.question.from?.join(" or ") ?? "everybody"}` : (w.seen ?? "–")}
            {w.next && (
              <>
                ; again <Until at={w.next} />
              </>
            )}
          </Cell>
        </Row>
      ))}
    </Table>
  );
}
