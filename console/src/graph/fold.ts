import type { State, Task } from "../api/client";

/** From so many tasks on, groups are folded until their reader opens them. */
const foldFrom = 40;

/** Box is what is drawn: a task, or a group that is folded. */
export interface Box extends Pick<Task, "name" | "after" | "state"> {
  task?: Task; // of one that is not folded
  group?: { name: string; counts: Record<string, number>; total: number };
}

/** groupOf is what a task is folded into: its group, or what stands before the number that its name ends with. */
const groupOf = (name: string) => /^(.+\/)[^/]+$/.exec(name)?.[1] ?? /^(.*[^0-9])[0-9]+$/.exec(name)?.[1];

/** The states of a group, the one that matters most first. */
const weight: State[] = ["failed", "held", "running", "cooling", "waiting", "ready", "stopped", "unreached", "idle", "skipped", "succeeded"];

/** foldable are the groups that a graph has if it has many tasks. */
export function foldable(tasks: Task[]): Set<string> {
  const sizes = new Map<string, number>();
  if (tasks.length < foldFrom) return new Set();
  for (const t of tasks) {
    const group = groupOf(t.name);
    if (group) sizes.set(group, (sizes.get(group) ?? 0) + 1);
  }
  return new Set([...sizes].filter(([, n]) => n > 2).map(([name]) => name));
}

/** fold puts the tasks of each of the groups into one box, and their edges with them. */
export function fold(tasks: Task[], groups: Set<string>): Box[] {
  const inside = (name: string) => {
    const group = groupOf(name);
    return group && groups.has(group) ? group : undefined;
  };
  const boxOf = (name: string) => {
    const group = inside(name);
    return group ? `${group}*` : name;
  };
  const boxes = new Map<string, Box>();
  const edges = new Map<string, Map<string, string>>();
  for (const task of tasks) {
    const name = boxOf(task.name);
    const group = inside(task.name);
    let box = boxes.get(name);
    if (!box) {
      box = { name, after: [], state: task.state, ...(group ? { group: { name: group, counts: {}, total: 0 } } : { task }) };
      boxes.set(name, box);
      edges.set(name, new Map());
    }
    if (box.group) {
      box.group.total++;
      box.group.counts[task.state] = (box.group.counts[task.state] ?? 0) + 1;
      if (weight.indexOf(task.state) < weight.indexOf(box.state)) box.state = task.state;
    }
    for (const { task: before, expect } of task.after) {
      const from = boxOf(before);
      if (from !== name) edges.get(name)?.set(from, expect);
    }
  }
  for (const [name, box] of boxes) box.after = [...(edges.get(name) ?? [])].map(([task, expect]) => ({ task, expect }));
  return [...boxes.values()];
}
