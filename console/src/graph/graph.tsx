import { Controls, Handle, Panel, Position, ReactFlow, type Edge, type EdgeProps, type Node, type NodeProps } from "@xyflow/react";
import "@xyflow/react/dist/style.css";
import { useMemo, useState } from "react";
import type { Task } from "../api/client";
import { Counts, Glyph, itemsText } from "../parts/state";
import { Took, Until } from "../parts/time";
import { fold, foldable, type Box } from "./fold";
import { edgeName, expectWord, lay, nodeHeight, nodeWidth, within, withResources } from "./layout";

type TaskNode = Node<{ box: Box; quiet: boolean; chosen: boolean; critical: boolean; open: (() => void) | undefined }, "task">;

function TaskBox({ data: { box, quiet, chosen, critical, open } }: NodeProps<TaskNode>) {
  const lit = box.state === "running";
  return (
    <div
      style={{ width: nodeWidth, height: nodeHeight, boxShadow: lit ? "var(--glow)" : box.group ? "4px 4px 0 -1px var(--line)" : undefined }}
      className={`flex flex-col justify-center rounded-xl border bg-raised px-3 text-ink ${chosen ? "border-lamp" : critical ? "border-lamp/60" : "border-line"} ${box.state === "idle" && !quiet ? "opacity-70" : ""}`}
    >
      <Handle type="target" position={Position.Left} isConnectable={false} className="invisible" />
      <span className="flex items-center gap-2">
        {!quiet && <Glyph state={box.state} />}
        <span className="truncate font-medium" title={box.name}>
          {box.name}
        </span>
        {open && (
          <button type="button" className="ml-auto rounded px-1 text-soft hover:text-ink" aria-label={`Open ${box.name}`} onClick={(event) => (event.stopPropagation(), open())}>
            +
          </button>
        )}
      </span>
      <span className="flex gap-2 text-[0.8rem] whitespace-nowrap text-soft">
        {box.task ? quiet ? box.task.kind : <TaskLine task={box.task} /> : quiet ? `${box.group?.total} tasks` : <Counts counts={box.group?.counts ?? {}} />}
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

/** A graph is not shown smaller than this at first. */
const smallestAtFirst = 0.45;

const nodeTypes = { task: TaskBox };

type Way = Edge<{ path: string; middle: { x: number; y: number }; stroke: string; strength: number; word: string; thin: boolean }, "way">;

/** WayLine is an edge: whole when success is expected, else dashed with the outcome on it. */
function WayLine({ data }: EdgeProps<Way>) {
  if (!data) return null;
  const { path, middle, stroke, strength, word, thin } = data;
  return (
    <>
      <path
        d={path}
        fill="none"
        stroke={stroke}
        strokeOpacity={strength}
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

/** pathTo is how an edge is painted: the way of a failure first, then what came, then the rest. */
function pathTo(from: string | undefined, to: string, came: boolean): { stroke: string; strength: number } {
  if ((from === "failed" || from === "unreached") && (to === "unreached" || to === "failed")) return { stroke: "var(--failed)", strength: 0.95 };
  return came ? { stroke: "var(--succeeded)", strength: 0.75 } : { stroke: "var(--none)", strength: 0.5 };
}

/** Graph draws tasks and what they come after; quiet, without their states. */
export default function Graph(props: { tasks: Task[]; chosen?: string | undefined; onChoose?: (task: string) => void; quiet?: boolean; critical?: string[] | undefined }) {
  const { chosen, onChoose, quiet = false, critical } = props;
  const groups = useMemo(() => foldable(props.tasks), [props.tasks]);
  const [opened, setOpened] = useState<Set<string>>(new Set());
  const boxes = useMemo(() => fold(withResources(props.tasks), new Set([...groups].filter((g) => !opened.has(g)))), [props.tasks, groups, opened]);
  // The layout depends on the edges alone, so that nothing moves when a state changes.
  const shape = JSON.stringify(boxes.map((b) => [b.name, b.after]));
  const laid = useMemo(() => lay((JSON.parse(shape) as [string, Task["after"]][]).map(([name, after]) => ({ name, after }))), [shape]);
  const marked = new Set(critical);
  const nodes: TaskNode[] = boxes.map((box) => ({
    id: box.name,
    type: "task",
    position: laid.places.get(box.name) ?? { x: 0, y: 0 },
    data: { box, quiet, chosen: box.name === chosen, critical: marked.has(box.name), open: box.group ? () => setOpened((before) => new Set([...before, box.group?.name ?? ""])) : undefined },
    width: nodeWidth,
    height: nodeHeight,
    ariaLabel: quiet ? box.name : `${box.name}, ${box.state}`,
  }));
  const states = new Map(boxes.map((b) => [b.name, b.state]));
  const edges: Way[] = boxes.flatMap((box) =>
    box.after.flatMap(({ task: from, expect }) => {
      const name = edgeName(from, box.name);
      const way = laid.ways.get(name);
      const taken = !["idle", "skipped", "unreached"].includes(box.state);
      const came = taken && (expect === within ? states.get(from) !== "idle" : expect.split("|").includes(states.get(from) ?? ""));
      const painted = quiet ? { stroke: "var(--none)", strength: 0.5 } : pathTo(states.get(from), box.state, came);
      return way ? [{ id: name, type: "way" as const, source: from, target: box.name, data: { ...way, ...painted, word: expectWord(expect), thin: expect === within } }] : [];
    }),
  );
  const choose = (name: string) => {
    const box = boxes.find((b) => b.name === name);
    if (box?.task && name !== chosen) onChoose?.(name);
  };
  return (
    <ReactFlow
      key={[...opened].join()}
      nodes={nodes}
      edges={edges}
      nodeTypes={nodeTypes}
      edgeTypes={edgeTypes}
      nodesDraggable={false}
      nodesConnectable={false}
      edgesFocusable={false}
      nodesFocusable={!!onChoose}
      elementsSelectable={!!onChoose}
      onlyRenderVisibleElements={boxes.length > 150}
      onNodeClick={(_, node) => choose(node.id)}
      onSelectionChange={({ nodes: [node] }) => node && choose(node.id)}
      fitView
      onInit={(flow) => {
        // What is too large to be read as a whole is shown where its reader most likely looks.
        const at = laid.places.get(chosen ?? "") ?? laid.places.get(boxes.find((b) => b.state === "failed")?.name ?? "");
        if (flow.getZoom() < smallestAtFirst && at) void flow.setCenter(at.x + nodeWidth, at.y + nodeHeight / 2, { zoom: smallestAtFirst });
      }}
      fitViewOptions={{ padding: 0.04, maxZoom: 1 }}
      minZoom={0.05}
      maxZoom={1.6}
      zoomOnScroll={boxes.length > 60}
      panOnScroll={false}
      preventScrolling={boxes.length > 60}
    >
      {boxes.length > 12 && <Controls showInteractive={false} />}
      {opened.size > 0 && (
        <Panel position="top-right">
          <button type="button" className="rounded-lg border border-line bg-surface px-3 py-1 text-soft hover:text-ink" onClick={() => setOpened(new Set())}>
            Fold groups
          </button>
        </Panel>
      )}
    </ReactFlow>
  );
}
