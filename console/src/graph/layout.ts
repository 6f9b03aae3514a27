import { graphlib, layout } from "@dagrejs/dagre";
import type { Task } from "../api/client";

export const nodeWidth = 172;
export const nodeHeight = 54;

interface Point {
  x: number;
  y: number;
}

export interface Laid {
  places: Map<string, Point>; // the upper left corner of each task
  ways: Map<string, { path: string; middle: Point }>; // of each edge, by its name
}

export const edgeName = (from: string, to: string) => `${from}→${to}`;

/** expectWord is the word of the file for several outcomes, "" for success. */
export function expectWord(expect: string): string {
  if (expect === "succeeded" || expect === within) return "";
  if (expect === "succeeded|skipped") return "clear";
  return expect.split("|").length === 5 ? "settled" : expect;
}

/** within marks an edge between the opening or closing of a resource and a task that it is for. */
export const within = "within";

/**
 * withResources adds the edges that lead from the opening of a resource to the first tasks that are
 * within it, and from the last of them to its closing.
 */
export function withResources<T extends Pick<Task, "name" | "after" | "within">>(tasks: T[]): T[] {
  const more = new Map<string, Task["after"]>();
  const add = (name: string, task: string) => more.set(name, [...(more.get(name) ?? []), { task, expect: within }]);
  for (const { name } of tasks) {
    const resource = /^(.+):open$/.exec(name)?.[1];
    if (!resource) continue;
    const users = tasks.filter((t) => t.within?.includes(resource));
    const names = new Set(users.map((t) => t.name));
    const followed = new Set(users.flatMap((t) => t.after.map((a) => a.task)));
    for (const user of users) {
      const opens = user.name.endsWith(":open");
      if (!user.name.endsWith(":close") && !user.after.some((a) => names.has(a.task))) add(user.name, name);
      if (!opens && !followed.has(user.name)) add(`${resource}:close`, user.name);
    }
  }
  return tasks.map((t) => ({ ...t, after: [...t.after, ...(more.get(t.name) ?? [])] }));
}

/** From so many edges on a graph is laid out the quick way. */
const manyEdges = 400;

/** lay lays a graph out in layers from left to right, with edges led around the tasks. */
export function lay(tasks: Pick<Task, "name" | "after">[]): Laid {
  const began = performance.now();
  const laid = layOut(tasks);
  performance.measure("a graph is laid out", { start: began, detail: tasks.length }); // for make bench
  return laid;
}

function layOut(tasks: Pick<Task, "name" | "after">[]): Laid {
  if (tasks.reduce((n, t) => n + t.after.length, tasks.length) > manyEdges) return layQuickly(tasks);
  const graph = new graphlib.Graph();
  graph.setGraph({ rankdir: "LR", nodesep: 20, ranksep: 34, edgesep: 14, marginx: 4, marginy: 4 });
  graph.setDefaultEdgeLabel(() => ({}));
  for (const task of tasks) graph.setNode(task.name, { width: nodeWidth, height: nodeHeight });
  for (const task of tasks) {
    for (const { task: from, expect } of task.after) {
      const word = expectWord(expect);
      graph.setEdge(from, task.name, word ? { width: 7 * word.length, height: 14, labelpos: "c" } : {});
    }
  }
  layout(graph);
  const laid: Laid = { places: new Map(), ways: new Map() };
  for (const task of tasks) {
    const { x, y } = graph.node(task.name) as Point;
    laid.places.set(task.name, { x: x - nodeWidth / 2, y: y - nodeHeight / 2 });
  }
  for (const task of tasks) {
    for (const { task: from } of task.after) {
      const { points } = graph.edge(from, task.name) as { points: Point[] };
      const inner = points.slice(1, -1);
      const start = graph.node(from) as Point;
      const end = graph.node(task.name) as Point;
      const whole = [{ x: start.x + nodeWidth / 2, y: start.y }, ...inner, { x: end.x - nodeWidth / 2, y: end.y }];
      laid.ways.set(edgeName(from, task.name), { path: smooth(whole), middle: inner[Math.floor(inner.length / 2)] ?? start });
    }
  }
  return laid;
}

/**
 * layQuickly puts each task behind the last of those that it comes after, and orders each layer by where its
 * neighbours stand, forth and back. Edges are not led around tasks: among hundreds nobody follows one with the eye.
 */
export function layQuickly(tasks: Pick<Task, "name" | "after">[]): Laid {
  const known = new Map(tasks.map((t) => [t.name, t]));
  const depths = new Map<string, number>();
  const depth = (name: string): number => {
    const before = depths.get(name);
    if (before !== undefined) return before;
    depths.set(name, 0); // a circle, which no definition has, ends here
    const d = Math.max(0, ...(known.get(name)?.after ?? []).filter((a) => known.has(a.task)).map((a) => depth(a.task) + 1));
    depths.set(name, d);
    return d;
  };
  const layers: string[][] = [];
  for (const t of tasks) (layers[depth(t.name)] ??= []).push(t.name);
  const next = new Map<string, string[]>();
  for (const t of tasks) for (const a of t.after) next.set(a.task, [...(next.get(a.task) ?? []), t.name]);
  const at = new Map<string, number>();
  const number = (layer: string[]) => layer.forEach((name, i) => at.set(name, i - layer.length / 2));
  layers.forEach(number);
  const settle = (layer: string[], neighbours: (name: string) => string[]) => {
    const middle = (name: string) => {
      const all = neighbours(name).flatMap((n) => at.get(n) ?? []);
      return all.length ? all.reduce((a, b) => a + b, 0) / all.length : (at.get(name) ?? 0);
    };
    const middles = new Map(layer.map((name) => [name, middle(name)]));
    layer.sort((a, b) => (middles.get(a) ?? 0) - (middles.get(b) ?? 0));
    number(layer);
  };
  for (let round = 0; round < 4; round++) {
    for (const layer of layers) settle(layer, (name) => (known.get(name)?.after ?? []).map((a) => a.task));
    for (const layer of [...layers].reverse()) settle(layer, (name) => next.get(name) ?? []);
  }
  const laid: Laid = { places: new Map(), ways: new Map() };
  // A layer that would be far higher than the graph is wide stands in several columns.
  const rows = Math.max(8, Math.ceil(Math.sqrt(tasks.length)));
  let x = 0;
  for (const layer of layers) {
    const high = Math.ceil(layer.length / Math.ceil(layer.length / rows));
    layer.forEach((name, i) => {
      const column = Math.floor(i / high);
      const inColumn = Math.min(high, layer.length - column * high);
      laid.places.set(name, { x: x + column * (nodeWidth + 16), y: ((i % high) - inColumn / 2) * (nodeHeight + 12) });
    });
    x += (Math.ceil(layer.length / high) - 1) * (nodeWidth + 16) + nodeWidth + 70;
  }
  for (const t of tasks) {
    const end = laid.places.get(t.name);
    for (const { task: from } of t.after) {
      const start = laid.places.get(from);
      if (!start || !end) continue;
      const a = { x: start.x + nodeWidth, y: start.y + nodeHeight / 2 };
      const b = { x: end.x, y: end.y + nodeHeight / 2 };
      laid.ways.set(edgeName(from, t.name), { path: smooth([a, b]), middle: { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 } });
    }
  }
  return laid;
}

/** smooth is a path through the points that leaves and enters each of them level. */
function smooth(points: Point[]): string {
  const [first, ...rest] = points;
  if (!first) return "";
  let path = `M ${first.x} ${first.y}`;
  let last = first;
  for (const next of rest) {
    const half = (last.x + next.x) / 2;
    path += ` C ${half} ${last.y}, ${half} ${next.y}, ${next.x} ${next.y}`;
    last = next;
  }
  return path;
}
