import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Run = Schemas["Run"];
export type Task = Schemas["Task"];
export type Items = Schemas["Items"];
export type Upcoming = Schemas["Upcoming"];
export type Decision = Schemas["Decision"];
export type Watermark = Schemas["Watermark"];
export type Backfill = Schemas["Backfill"];
export type BackfillWindow = Schemas["BackfillWindow"];
export type UpcomingDays = Schemas["UpcomingDays"];
export type Rerun = Schemas["Rerun"];
export type Event = Schemas["Event"];
export type EventAnswer = Schemas["EventAnswer"];
export type Wait = Schemas["Wait"];
export type Question = Schemas["Question"];
export type Dataset = Schemas["Dataset"];
export type Update = Schemas["Update"];
export type Attempt = Schemas["Attempt"];
export type Workflow = Schemas["Workflow"];
export type Watch = Schemas["Watch"];
export type Held = Schemas["Held"];
export type Numbers = Schemas["Numbers"];
export type PeriodNumbers = Schemas["PeriodNumbers"];
export type Strip = Schemas["Strip"];
export type Trouble = Schemas["Trouble"];
export type TroubleStory = Schemas["TroubleStory"];
export type TroubleRerunOf = Schemas["TroubleRerunOf"];
export type Contrast = Schemas["Contrast"];
export type Comparison = Schemas["Comparison"];
export type Forecast = Schemas["Forecast"];
export type Usual = Schemas["Usual"];
export type Given = Schemas["Given"];
export type Ribbon = Schemas["Ribbon"];
export type Worker = Schemas["Worker"];
export type Workers = Schemas["Workers"];
export type Usage = Schemas["Usage"];
export type Capacity = Schemas["Capacity"];
export type MapLink = Schemas["DefinitionLink"];
export type Line = Schemas["Line"];
export type Lines = Schemas["Lines"];
export type Param = Schemas["DefinitionParam"];
export type State = Task["state"] | Run["state"] | Attempt["state"];

/** Problem is an answer of the service that says what is wrong (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

/** call asks the service. It throws a Problem, or a TypeError when there is no answer. */
export async function call<T>(method: "GET" | "POST" | "PUT" | "DELETE", path: string, body?: unknown): Promise<T> {
  const response = await fetch(`/api${path}`, {
    method,
    headers: body === undefined ? {} : { "Content-Type": "application/json" },
    body: body === undefined ? null : JSON.stringify(body),
  });
  if (response.status === 204) return undefined as T;
  const answer: unknown = await response.json().catch(() => ({}));
  if (!response.ok) {
    const { detail, title } = answer as { detail?: string; title?: string };
    throw new Problem(response.status, detail ?? title ?? `the service answered ${response.status}`);
  }
  return answer as T;
}

export const runPath = (run: string) => `/runs/${encodeURIComponent(run)}`;
export const itemsPath = (run: string, task: string, query: Record<string, string | number>) =>
  `${runPath(run)}/items?${new URLSearchParams({ task, ...Object.fromEntries(Object.entries(query).map(([k, v]) => [k, String(v)])) })}`;
export const workflowPath = (name: string) => `/workflows/${encodeURIComponent(name)}`;

export function logPath(run: string, task: string, attempt: number, more: Record<string, string | number> = {}, kind: "" | "/stream" | "/raw" = "") {
  const query = new URLSearchParams({ task, attempt: String(attempt) });
  for (const [name, value] of Object.entries(more)) query.set(name, String(value));
  return `${runPath(run)}/log${kind}?${query}`;
}
