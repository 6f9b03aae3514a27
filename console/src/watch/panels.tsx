import { Link } from "react-router";
import type { PeriodNumbers, Run, Trouble, Watch } from "../api/client";
import { Command } from "../parts/notes";
import { Counts, Glyph } from "../parts/state";
import { Cell, Row, Table } from "../parts/table";
import { length, Moment, Took, Until, useNow, WindowText } from "../parts/time";

export const runLink = (run: string, task?: string) => `/runs/${run}${task ? `?task=${encodeURIComponent(task)}` : ""}`;
export const placeOf = (t: { workflow: string; task: string }) => (t.task ? `${t.workflow} / ${t.task}` : t.workflow);

const open = "font-medium whitespace-nowrap hover:underline";

/** Nothing says that a panel has nothing to tell, which is good. */
export function Nothing({ children }: { children: React.ReactNode }) {
  return <p className="px-4 py-4 text-soft">{children}</p>;
}

export function Failing({ watch }: { watch: Watch }) {
  if (watch.failing.length === 0) {
    return (
      <Nothing>
        <span data-state="succeeded" className="state-colour">
          ● Nothing is broken.
        </span>
      </Nothing>
    );
  }
  return (
    <Table plain label="Failing" heads={["Where", "What is wrong", "Since", "Without data", ""]}>
      {watch.failing.map((t) => (
        <FailingRow key={t.number} t={t} />
      ))}
    </Table>
  );
}

const isKnown = (t: Trouble, now: number) => !!t.known_until && Date.parse(t.known_until) > now;

/** FailingRow is a trouble in one line. */
export function FailingRow({ t }: { t: Trouble }) {
  const known = isKnown(t, useNow(60_000, true));
  return (
    <Row>
      <Cell>
        <Link to={`/failures/${t.number}`} className={`inline-flex items-center gap-2 ${open}`}>
          <Glyph state={t.closed ? "succeeded" : known ? "stopped" : "failed"} />
          {placeOf(t)}
        </Link>
      </Cell>
      <Cell className="w-full min-w-64">
        {t.hint ? (
          <>
            {t.hint.cause}
            <div className="text-[0.87rem] break-words text-soft">{t.error}</div>
          </>
        ) : (
          t.error
        )}
      </Cell>
      <Cell className="whitespace-nowrap">
        <Moment at={t.opened} />
        {t.count > 1 && <span className="text-soft">, {t.count}×</span>}
      </Cell>
      <Cell className="whitespace-nowrap">{t.closed ? <span className="text-soft">–</span> : t.windows > 0 ? plural(t.windows, "window") : plural(t.runs, "run")}</Cell>
      <Cell className="whitespace-nowrap text-soft">
        {t.closed ? (
          <>
            closed <Moment at={t.closed} />
          </>
        ) : known ? (
          <>
            known until <Moment at={t.known_until} />
          </>
        ) : t.taken_by ? (
          `with ${t.taken_by}`
        ) : (
          ""
        )}
      </Cell>
    </Row>
  );
}

export const plural = (n: number, thing: string) => `${n} ${thing}${n === 1 ? "" : "s"}`;

export function Late({ watch }: { watch: Watch }) {
  if (watch.late.total === 0 && watch.datasets.length === 0) return <Nothing>Nothing is late.</Nothing>;
  return (
    <Table plain label="Late" heads={["What", "Why", "Since"]}>
      {watch.late.runs.map((r) => (
        <Row key={r.id}>
          <Cell>
            <Link to={runLink(r.id)} className={open}>
              <LateMark /> {r.id}
            </Link>
          </Cell>
          <Cell className="w-full">{r.late?.reason}</Cell>
          <Cell className="whitespace-nowrap">
            <Moment at={r.late?.since} />
          </Cell>
        </Row>
      ))}
      {watch.datasets.map((d) => (
        <Row key={d.name}>
          <Cell>
            <Link to={`/datasets/${d.name}`} className={open}>
              <LateMark /> {d.name}
            </Link>
          </Cell>
          <Cell className="w-full">the data set should be fresh within {d.fresh_within}</Cell>
          <Cell className="whitespace-nowrap">
            <Moment at={d.late_since} />
          </Cell>
        </Row>
      ))}
    </Table>
  );
}

/** LateMark is the sign of what is late. */
export function LateMark() {
  return (
    <span aria-hidden data-state="waiting" className="state-colour inline-block w-[1em] text-center">
      ◷
    </span>
  );
}

export function HeldPanel({ watch }: { watch: Watch }) {
  if (watch.held.length === 0) return <Nothing>Nothing needs a person.</Nothing>;
  return (
    <Table plain label="Needs a person" heads={["Run", "Why", "Since"]}>
      {watch.held.map((h) => (
        <Row key={`${h.run} ${h.task}`}>
          <Cell>
            <Link to={runLink(h.run, h.task)} className={`inline-flex items-center gap-2 ${open}`}>
              <Glyph state="held" />
              {h.run}
            </Link>
            <div className="pl-6 text-[0.87rem] whitespace-nowrap text-soft">{h.task}</div>
          </Cell>
          <Cell className="w-full">
            {h.reason}
            {h.question && (
              <span className="text-soft">
                {" "}
                {h.question.from?.length ? `asks ${h.question.from.join(", ")}` : "asks everybody"}
              </span>
            )}
          </Cell>
          <Cell className="whitespace-nowrap">
            <Moment at={h.since} />
          </Cell>
        </Row>
      ))}
    </Table>
  );
}

export function Running({ watch }: { watch: Watch }) {
  if (watch.running.total === 0) return <Nothing>Nothing is running.</Nothing>;
  return (
    <>
      <Table plain label="Running" heads={["Run", "Window", "For", "Usually ends", "Tasks"]}>
        {watch.running.runs.map((r) => (
          <Row key={r.id}>
            <Cell>
              <Link to={runLink(r.id)} className={`inline-flex items-center gap-2 ${open}`}>
                <Glyph state="running" />
                {r.id}
              </Link>
            </Cell>
            <Cell className="min-w-44">
              <WindowText window={r.window} />
            </Cell>
            <Cell className="whitespace-nowrap">
              <Took start={r.started} />
            </Cell>
            <Cell className="whitespace-nowrap">
              <UsuallyEnds run={r} />
            </Cell>
            <Cell>
              <Counts counts={r.counts ?? {}} />
            </Cell>
          </Row>
        ))}
      </Table>
      {watch.running.total > watch.running.runs.length && <More to="/runs?state=running">{`and ${watch.running.total - watch.running.runs.length} more`}</More>}
    </>
  );
}

function UsuallyEnds({ run }: { run: Run }) {
  const now = useNow(1000, !!run.expected);
  if (!run.expected) return <span className="text-soft">–</span>;
  const left = Date.parse(run.expected) - now;
  return left > 0 ? <span className="figures">in {length(left)}</span> : <span className="figures text-waiting">{length(-left)} ago</span>;
}

function More({ to, children }: { to: string; children: string }) {
  return (
    <Link to={to} className="block px-4 py-2.5 text-soft hover:text-ink hover:underline">
      {children}
    </Link>
  );
}

export function Next({ watch }: { watch: Watch }) {
  if (watch.next.length === 0) return <Nothing>Nothing is due within a day.</Nothing>;
  return (
    <>
      <Table plain label="Due next" heads={["Workflow", "Due", "In", "Window"]}>
        {watch.next.slice(0, 8).map((u) => (
          <Row key={`${u.workflow} ${u.due}`}>
            <Cell>
              <Link to={`/workflows/${u.workflow}`} className={open}>
                {u.workflow}
              </Link>
            </Cell>
            <Cell className="whitespace-nowrap">
              <Moment at={u.due} />
            </Cell>
            <Cell className="whitespace-nowrap text-soft">
              <Until at={u.due} />
            </Cell>
            <Cell className="text-soft">
              <WindowText window={u.window} />
            </Cell>
          </Row>
        ))}
      </Table>
      {watch.next.length > 8 && <More to="/upcoming">All that is due</More>}
    </>
  );
}

/** NumbersPanel sets the last day and week beside the ones before. */
export function NumbersPanel({ watch }: { watch: Watch }) {
  const { day, day_before, week, week_before } = watch.numbers;
  const total = (p: PeriodNumbers) => p.succeeded + p.failed + p.stopped;
  const share = (p: PeriodNumbers) => (total(p) ? (100 * p.succeeded) / total(p) : undefined);
  const percent = (n: number | undefined) => (n === undefined ? "–" : `${n === 100 ? 100 : Math.min(99.9, n).toFixed(1)} %`);
  const money = (p: PeriodNumbers) => (p.price ? `, costs ${p.price.toFixed(2)}` : "");
  return (
    <dl className="grid grid-cols-2 gap-x-6 gap-y-5 px-4 py-4 md:grid-cols-3 xl:grid-cols-6">
      <Figure name="Runs, last day" value={`${total(day)}`} before={`${total(day_before)} the day before`} />
      <Figure name="Failed, last day" value={`${day.failed}`} bad={day.failed > 0} before={`${day_before.failed} the day before`} />
      <Figure name="Succeeded, last day" value={percent(share(day))} before={`${percent(share(day_before))} the day before`} />
      <Figure name="Begun after due" value={length(day.delay_median_seconds * 1000)} before={`95 of 100 within ${length(day.delay_p95_seconds * 1000)}; ${length(day_before.delay_median_seconds * 1000)} the day before`} />
      <Figure name="Runs, last week" value={`${total(week)}`} before={`${week.failed} failed; ${total(week_before)} and ${week_before.failed} the week before`} />
      <Figure name="Processor, last week" value={length(week.used.cpu_seconds * 1000)} before={`${length(week_before.used.cpu_seconds * 1000)} the week before${money(week)}`} />
    </dl>
  );
}

function Figure({ name, value, before, bad = false }: { name: string; value: string; before: string; bad?: boolean }) {
  return (
    <div>
      <dt className="text-[0.8rem] text-soft">{name}</dt>
      <dd>
        <span className={`figures text-xl font-semibold ${bad ? "text-failed" : ""}`}>{value}</span>
        <span className="block text-[0.8rem] text-soft">{before}</span>
      </dd>
    </div>
  );
}

/** NoWorkflows is the Watch of an installation that has nothing to watch. */
export function NoWorkflows() {
  return (
    <>
      Write one to <Command>workflows/NAME.yaml</Command> and apply it with <Command>lantern apply .</Command>
    </>
  );
}
