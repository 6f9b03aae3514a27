import { graphlib, layout } from "@dagrejs/dagre";
import type { Task } from "../api/client";

export const nodeWidth = 172;
export const nodeHeight = 54;

export type Places = Map<string, { x: number; y: number }>;

/** places lays a graph out in layers from left to right. */
export function places(tasks: Pick<Task, "name" | "after">[]): Places {
  const graph = new graphlib.Graph();
  graph.setGraph({ rankdir: "LR", nodesep: 20, ranksep: 34, marginx: 4, marginy: 4 });
  graph.setDefaultEdgeLabel(() => ({}));
  for (const task of tasks) graph.setNode(task.name, { width: nodeWidth, height: nodeHeight });
  for (const task of tasks) for (const from of task.after) graph.setEdge(from.task, task.name);
  layout(graph);
  const found: Places = new Map();
  for (const task of tasks) {
    const { x, y } = graph.node(task.name) as { x: number; y: number };
    found.set(task.name, { x: x - nodeWidth / 2, y: y - nodeHeight / 2 });
  }
  return found;
}
