import { Controls, Handle, Position, ReactFlow, type Edge, type EdgeProps, type Node, type NodeProps } from "@xyflow/react";
import "@xyflow/react/dist/style.css";
import { useMemo } from "react";
import type { Task } from "../api/client";
import { Glyph, itemsText } from "../parts/state";
import { Took, Until } from "../parts/time";
import { edgeName, expectWord, lay, nodeHeight, nodeWidth, within, withResources } from "./layout";

type TaskNode = Node<{ task: Task; quiet: boolean; chosen: boolean }, "task">;

function TaskBox({ data: { task, quiet, chosen } }: NodeProps<TaskNode>) {
  const lit = task.state === "running";
  return (
    <div
      style={{ width: nodeWidth, height: nodeHeight, boxShadow: lit ? "var(--glow)" : undefined }}
      className={`flex flex-col justify-center rounded-xl border bg-raised px-3 text-ink ${chosen ? "border-lamp" : "border-line"} ${task.state === "idle" && !quiet ? "opacity-70" : ""}`}
    >
      <Handle type="target" position={Position.Left} isConnectable={false} className="invisible" />
      <span className="flex items-center gap-2">
        {!quiet && <Glyph state={task.state} />}
        <span className="truncate font-medium" title={task.name}>
          {task.name}
        </span>
      </span>
      <span className="flex gap-2 text-[0.8rem] whitespace-nowrap text-soft">
        {quiet ? task.kind : <TaskLine task={task} />}
      </span>
      <Handle type="source" position={Position.Right} isConnectable={false} className="invisible" />
    </div>
  );
}

function TaskLine({ task }: { task: Task }) {
  if (task.state === "cooling" && task.wakes) {
    return (
      <>
        cooling, again <Until at={task.wakes} />
      </>
    );
  }
  return (
    <>
      {task.items?.count ? itemsText(task.items) : task.state}
      {task.attempts.length > 1 && <span title={`${task.attempts.length} attempts`}>×{task.attempts.length}</span>}
      {task.started && (
        <span className="ml-auto">
          <Took start={task.started} end={task.ended} />
        </span>
      )}
    </>
  );
}

const nodeTypes = { task: TaskBox };

type Way = Edge<{ path: string; middle: { x: number; y: number }; came: boolean; word: string; thin: boolean }, "way">;

/** WayLine is an edge: whole when success is expected, else dashed with the outcome on it. */
function WayLine({ data }: EdgeProps<Way>) {
  if (!data) return null;
  const { path, middle, came, word, thin } = data;
  return (
    <>
      <path
        d={path}
        fill="none"
        stroke={came ? "var(--succeeded)" : "var(--none)"}
        strokeOpacity={came ? 0.75 : 0.5}
        strokeWidth={thin ? 1.2 : 1.5}
        {...(thin ? { strokeDasharray: "1.5 4", strokeLinecap: "round" as const } : word ? { strokeDasharray: "5 4" } : {})}
      />
      {word && (
        <text x={middle.x} y={middle.y} dy="0.32em" textAnchor="middle" fontSize={11} fill="var(--soft)" stroke="var(--surface)" strokeWidth={5} paintOrder="stroke">
          {word}
        </text>
      )}
    </>
  );
}

const edgeTypes = { way: WayLine };

/** Graph draws tasks and what they come after; quiet, without their states. */
export default function Graph(props: { tasks: Task[]; chosen?: string | undefined; onChoose?: (task: string) => void; quiet?: boolean }) {
  const { chosen, onChoose, quiet = false } = props;
  const tasks = useMemo(() => withResources(props.tasks), [props.tasks]);
  // The layout depends on the edges alone, so that nothing moves when a state changes.
  const shape = JSON.stringify(tasks.map((t) => [t.name, t.after]));
  const laid = useMemo(() => lay((JSON.parse(shape) as [string, Task["after"]][]).map(([name, after]) => ({ name, after }))), [shape]);
  const nodes: TaskNode[] = tasks.map((task) => ({
    id: task.name,
    type: "task",
    position: laid.places.get(task.name) ?? { x: 0, y: 0 },
    data: { task, quiet, chosen: task.name === chosen },
    width: nodeWidth,
    height: nodeHeight,
    ariaLabel: quiet ? task.name : `${task.name}, ${task.state}`,
  }));
  const states = new Map(tasks.map((t) => [t.name, t.state]));
  const edges: Way[] = tasks.flatMap((task) =>
    task.after.flatMap(({ task: from, expect }) => {
      const name = edgeName(from, task.name);
      const way = laid.ways.get(name);
      const taken = !["idle", "skipped", "unreached"].includes(task.state);
      const came = taken && (expect === within ? states.get(from) !== "idle" : expect.split("|").includes(states.get(from) ?? ""));
      return way ? [{ id: name, type: "way" as const, source: from, target: task.name, data: { ...way, came, word: expectWord(expect), thin: expect === within } }] : [];
    }),
  );
  return (
    <ReactFlow
      nodes={nodes}
      edges={edges}
      nodeTypes={nodeTypes}
      edgeTypes={edgeTypes}
      nodesDraggable={false}
      nodesConnectable={false}
      edgesFocusable={false}
      nodesFocusable={!!onChoose}
      elementsSelectable={!!onChoose}
      onNodeClick={(_, node) => onChoose?.(node.id)}
      onSelectionChange={({ nodes: [node] }) => node && node.id !== chosen && onChoose?.(node.id)}
      fitView
      fitViewOptions={{ padding: 0.04, maxZoom: 1 }}
      minZoom={0.1}
      maxZoom={1.6}
      zoomOnScroll={false}
      panOnScroll={false}
      preventScrolling={false}
    >
      {tasks.length > 12 && <Controls showInteractive={false} />}
    </ReactFlow>
  );
}
