import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { RotateCcw } from "lucide-react";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { call, type TroubleRerunOf, type TroubleStory, type Workflow, workflowPath } from "../api/client";
import { gatherLong, useLive } from "../api/live";
import { Button } from "../parts/button";
import { Dialog, DialogClose } from "../parts/dialog";
import { Fact } from "../parts/fact";
import { Command, Loading, NotShown } from "../parts/notes";
import { Trail } from "../parts/shell";
import { Glyph, StateMark } from "../parts/state";
import { Cell, Row, Table } from "../parts/table";
import { Moment, WindowText } from "../parts/time";
import { placeOf, plural, runLink } from "../watch/panels";
import { ActDialog } from "./actions";

/** FailurePage is all that is known of a trouble, and what to press. */
export function FailurePage() {
  const { number = "" } = useParams();
  useLive(undefined, gatherLong);
  const story = useQuery({ queryKey: ["trouble", number], queryFn: () => call<TroubleStory>("GET", `/troubles/${number}`) });
  if (story.error) return <NotShown error={story.error} what={`Trouble ${number} cannot be shown`} />;
  if (story.isPending) return <Loading what={`trouble ${number}`} />;
  const s = story.data;
  const newest = s.affected[0];
  const left = s.affected.filter((f) => !f.mended);
  return (
    <>
      <Trail steps={[{ to: "/failures", name: "Failures" }]} />
      <div className="flex flex-wrap items-start gap-x-8 gap-y-3">
        <div className="max-w-4xl min-w-0">
          <h1 className="flex flex-wrap items-center gap-x-3 text-2xl font-semibold tracking-tight">
            <Glyph state={s.closed ? "succeeded" : "failed"} /> {placeOf(s)}
          </h1>
          <p className={`mt-1.5 font-mono break-words ${s.closed ? "text-soft" : "text-failed"}`}>{s.error}</p>
        </div>
        {!s.closed && (
          <div className="ml-auto flex flex-wrap gap-2">
            <Rerun story={s} anew={false} />
            <Rerun story={s} anew />
            <PauseDialog workflow={s.workflow} />
          </div>
        )}
      </div>
      {s.hint && (
        <p className="mt-4 max-w-4xl rounded-xl border border-line bg-surface px-4 py-3.5">
          <span className="font-medium">{s.hint.cause}</span> <span className="text-soft">{s.hint.try}</span>
        </p>
      )}
      <dl className="mt-5 flex flex-wrap gap-x-12 gap-y-3">
        <Fact name="Since">
          <Moment at={s.opened} />
          <Under>
            failed {s.count}×, last <Moment at={s.last} />
          </Under>
        </Fact>
        <Fact name="Without data">
          {s.closed ? "nothing any more" : s.windows > 0 ? plural(s.windows, "window") : plural(s.runs, "run")}
          {s.earlier > 0 && <Under>{plural(s.earlier, "trouble")} like it before</Under>}
        </Fact>
        <Fact name="Last good run">
          {s.last_good ? (
            <>
              <Link to={runLink(s.last_good.id)} className="hover:underline">
                {s.last_good.id}
              </Link>
              <Under>
                ended <Moment at={s.last_good.ended} />
              </Under>
            </>
          ) : (
            <span className="text-soft">none before</span>
          )}
        </Fact>
        {s.closed ? (
          <Fact name="Closed">
            <Moment at={s.closed} />
            <Under>{s.closed_by ? `by ${s.closed_by}` : "its windows have succeeded"}</Under>
          </Fact>
        ) : (
          <Fact name="In the hands of">{s.taken_by || <span className="text-soft">nobody</span>}</Fact>
        )}
        {s.known_until && (
          <Fact name="Known until">
            <Moment at={s.known_until} />
          </Fact>
        )}
      </dl>
      <div className="mt-6 grid grid-cols-1 gap-5 lg:grid-cols-2">
        <Box title="What changed since the last good run" more={s.last_good && newest && <Link className="hover:underline" to={`/compare?a=${s.last_good.id}&b=${newest.run}`}>compare with {newest.run}</Link>}>
          {s.changed.length === 0 ? (
            <p className="px-4 py-4 text-soft">{s.last_good ? "Nothing that is known here: the definition, the code, the params and the results are the same." : "There is no good run to compare with."}</p>
          ) : (
            <Changes changed={s.changed} />
          )}
        </Box>
        <Box
          title="The lines of the log that matter"
          more={
            newest && (
              <Link className="hover:underline" to={`${runLink(newest.run, newest.task)}${s.attempt ? `&attempt=${s.attempt}` : ""}`}>
                the whole log
              </Link>
            )
          }
        >
          {s.log.length === 0 ? (
            <p className="px-4 py-4 text-soft">Nothing was written.</p>
          ) : (
            <pre tabIndex={0} aria-label="Lines of the log" className="max-h-80 overflow-auto px-4 py-3 font-mono text-[0.83rem] leading-relaxed whitespace-pre-wrap">
              {s.log.map((line) => (
                <div key={line.number} className="flex gap-4">
                  <span className="figures shrink-0 text-soft select-none">{line.number + 1}</span>
                  <span className={`min-w-0 break-words ${line.stream === "err" ? "text-failed" : ""}`}>{line.text}</span>
                </div>
              ))}
            </pre>
          )}
        </Box>
        <Box title={s.closed ? "What failed of it" : "What is without data now"}>
          <Table plain label="Runs" heads={["Run", "Task", "Window", "Failed", ""]}>
            {[...left, ...s.affected.filter((f) => f.mended)].slice(0, 60).map((f) => (
              <Row key={`${f.run} ${f.task}`}>
                <Cell>
                  <Link to={runLink(f.run, f.task)} className="inline-flex items-center gap-2 font-medium whitespace-nowrap hover:underline">
                    <Glyph state={f.state as "failed"} />
                    {f.run}
                  </Link>
                </Cell>
                <Cell className="whitespace-nowrap">{f.task}</Cell>
                <Cell className="whitespace-nowrap">
                  <WindowText window={f.window} />
                </Cell>
                <Cell className="whitespace-nowrap">
                  <Moment at={f.at} />
                </Cell>
                <Cell className="whitespace-nowrap">{f.mended ? <span className="text-succeeded">● mended</span> : <StateMark state={f.state as "failed"} />}</Cell>
              </Row>
            ))}
          </Table>
        </Box>
        <Box title="What people say">
          <Words story={s} />
        </Box>
      </div>
    </>
  );
}

export function Changes({ changed }: { changed: TroubleStory["changed"] }) {
  return (
    <Table plain label="What changed" heads={["What", "Before", "Now"]}>
      {changed.slice(0, 40).map((d, i) => (
        <Row key={i}>
          <Cell className="align-top">
            <span className="text-soft">{d.kind}</span> {d.name}
          </Cell>
          <Cell className="max-w-64 align-top font-mono text-[0.83rem] break-words text-soft">{d.before || "–"}</Cell>
          <Cell className="max-w-64 align-top font-mono text-[0.83rem] break-words">{d.after || "–"}</Cell>
        </Row>
      ))}
    </Table>
  );
}

const Under = ({ children }: { children: React.ReactNode }) => <div className="text-[0.87rem] text-soft">{children}</div>;

export function Box({ title, more, children }: { title: string; more?: React.ReactNode; children: React.ReactNode }) {
  return (
    <section aria-label={title} className="min-w-0 overflow-hidden rounded-xl border border-line bg-surface">
      <h2 className="flex items-baseline gap-4 border-b border-line px-4 py-2.5 font-semibold">
        {title} <span className="ml-auto text-[0.87rem] font-normal text-soft">{more}</span>
      </h2>
      {children}
    </section>
  );
}

/** Rerun makes the failed tasks of all runs again, or new runs for their windows. */
function Rerun({ story, anew }: { story: TroubleStory; anew: boolean }) {
  const [asked, setAsked] = useState(false);
  const [follow, setFollow] = useState(false);
  const path = `/troubles/${story.number}/rerun`;
  const preview = useQuery({
    queryKey: ["trouble-rerun", story.number, anew],
    queryFn: () => call<{ reruns: TroubleRerunOf[] }>("POST", path, { anew, follow_on: !anew, dry_run: true }),
    enabled: asked,
    retry: false,
  });
  const list = preview.data?.reruns ?? [];
  const after = [...new Set(list.flatMap((r) => (r.follow_on ?? []).map((f) => f.run)))];
  const name = anew ? "Make anew" : "Rerun all";
  return (
    <ActDialog
      onOpen={setAsked}
      trigger={
        <Button look={anew ? "plain" : "lamp"}>
          {!anew && <RotateCcw size={15} />} {name}
        </Button>
      }
      title={anew ? "Make new runs for these windows?" : "Make the failed tasks again?"}
      about={
        preview.error ? (
          <span className="text-failed">✕ {preview.error.message}</span>
        ) : (
          <>
            <p>
              {anew
                ? "A new run for each, with the same params and the version that new runs take: for what was mended in the workflow or its code."
                : "Within their runs, each on the version it began with: for what was mended outside. The attempts that they had stay readable."}
            </p>
            <ul className="mt-2 max-h-48 list-disc overflow-auto pl-5 text-ink">
              {list.map((r) => (
                <li key={r.run}>
                  {r.run}
                  {!anew && r.tasks && <span className="text-soft">: {r.tasks.join(", ")}</span>}
                  {r.refused && <span className="text-failed">: {r.refused}</span>}
                </li>
              ))}
            </ul>
            {after.length > 0 && (
              <label className="mt-3 flex items-start gap-2.5">
                <input type="checkbox" checked={follow} onChange={(event) => setFollow(event.target.checked)} className="mt-1 accent-lamp" />
                <span>
                  Then, in order, what rested on them in other workflows: <span className="text-ink">{after.join(", ")}</span>
                </span>
              </label>
            )}
          </>
        )
      }
      command={`lantern failures ${story.number} --${anew ? "anew" : "rerun"}${follow ? " --follow-on" : ""}`}
      path={path}
      body={{ anew, follow_on: follow }}
      verb={anew ? "Make new runs" : "Make them again"}
    />
  );
}

/** PauseDialog pauses the workflow, so that it does not fail again meanwhile. */
function PauseDialog({ workflow }: { workflow: string }) {
  const w = useQuery({ queryKey: ["workflow", workflow], queryFn: () => call<Workflow>("GET", workflowPath(workflow)), retry: false });
  if (!w.data || (w.data.starts.length === 0 && !w.data.paused)) return null;
  const verb = w.data.paused ? "resume" : "pause";
  return (
    <ActDialog
      trigger={<Button>{w.data.paused ? "Resume the workflow" : "Pause the workflow"}</Button>}
      title={w.data.paused ? `Let ${workflow} go on?` : `Pause ${workflow}?`}
      about={w.data.paused ? "A run is made for each window that came due meanwhile, as its missed says." : "No run of it begins until it is resumed; what comes due meanwhile is remembered. What is running goes on."}
      command={`lantern ${verb} ${workflow}`}
      path={`${workflowPath(workflow)}/${verb}`}
      body={{}}
      verb={w.data.paused ? "Resume it" : "Pause it"}
    />
  );
}

const saidAs: Record<string, string> = { take: "takes it on", leave: "leaves it", note: "notes", known: "marks it as known", close: "closes it" };

function Words({ story }: { story: TroubleStory }) {
  const [text, setText] = useState("");
  const queries = useQueryClient();
  const who = useQuery({ queryKey: ["session"], queryFn: () => call<{ person: string }>("GET", "/session"), staleTime: Infinity });
  const say = useMutation({
    mutationFn: (body: { word: string; text?: string; until?: string }) => call<TroubleStory>("POST", `/troubles/${story.number}/words`, body),
    onSuccess: (next) => {
      setText("");
      queries.setQueryData(["trouble", String(story.number)], next);
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const mine = story.taken_by === who.data?.person;
  return (
    <div className="px-4 py-4">
      <ul className="flex flex-col gap-2">
        {story.words.map((w, i) => (
          <li key={i}>
            <span className="text-soft">
              <Moment at={w.at} />
            </span>{" "}
            {w.person} <span className="text-soft">{saidAs[w.word] ?? w.word}</span>
            {w.text && <>: {w.text}</>}
          </li>
        ))}
      </ul>
      {!story.closed && (
        <form
          className={story.words.length ? "mt-4" : ""}
          onSubmit={(event) => {
            event.preventDefault();
            if (text.trim()) say.mutate({ word: "note", text });
          }}
        >
          <label>
            <span className="sr-only">A note for others</span>
            <textarea
              rows={2}
              value={text}
              onChange={(event) => setText(event.target.value)}
              placeholder="A note for others"
              className="w-full rounded-lg border border-line bg-ground px-3 py-2 placeholder:text-soft"
            />
          </label>
          <div className="mt-2 flex flex-wrap gap-2">
            <Button type="submit" disabled={say.isPending || !text.trim()}>
              Note
            </Button>
            {mine ? (
              <Button disabled={say.isPending} onClick={() => say.mutate({ word: "leave", text })}>
                Leave it
              </Button>
            ) : (
              <Button disabled={say.isPending} onClick={() => say.mutate({ word: "take", text })}>
                Take it on
              </Button>
            )}
            <Known disabled={say.isPending} number={story.number} onChoose={(until) => say.mutate({ word: "known", text, until })} />
            <ActDialog
              trigger={<Button look="bare">Close it</Button>}
              title="Close this trouble?"
              about="Its windows have not succeeded. It is opened anew if the task fails like this again."
              command={`lantern failures ${story.number} --close`}
              path={`/troubles/${story.number}/words`}
              body={{ word: "close", text }}
              verb="Close it"
            />
          </div>
          {say.error && (
            <p role="alert" className="mt-2 text-failed">
              ✕ {say.error.message}
            </p>
          )}
        </form>
      )}
    </div>
  );
}

/** Known asks until when nobody need look at it. */
function Known({ number, onChoose, disabled }: { number: number; onChoose: (until: string) => void; disabled: boolean }) {
  const [open, setOpen] = useState(false);
  const [day, setDay] = useState("");
  return (
    <Dialog
      open={open}
      onOpenChange={setOpen}
      title="Known until when?"
      about="Until then it stands last, and nobody need look at it. It still closes itself when its windows have succeeded."
      trigger={<Button disabled={disabled}>Known until…</Button>}
    >
      <label className="block">
        <span className="text-soft">Until the beginning of</span>
        <input type="date" value={day} onChange={(event) => setDay(event.target.value)} className="mt-1 block h-9 rounded-lg border border-line bg-ground px-3" />
      </label>
      <p className="my-4 text-soft">
        The same in a terminal: <Command>{`lantern failures ${number} --known-until ${day || "DATE"}`}</Command>
      </p>
      <div className="flex justify-end gap-2">
        <DialogClose asChild>
          <Button>Not now</Button>
        </DialogClose>
        <Button
          look="lamp"
          disabled={!day}
          onClick={() => {
            onChoose(new Date(`${day}T00:00`).toISOString());
            setOpen(false);
          }}
        >
          Mark as known
        </Button>
      </div>
    </Dialog>
  );
}
