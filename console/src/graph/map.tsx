import { Controls, Handle, MarkerType, Position, ReactFlow, type Edge, type EdgeProps, type Node, type NodeProps } from "@xyflow/react";
import "@xyflow/react/dist/style.css";
import { useMemo } from "react";
import type { MapLink } from "../api/client";
import { edgeName, lay, nodeHeight, nodeWidth } from "./layout";

const nodeKinds = ["workflow", "data set", "event", "file"] as const;

/** kindOf and nameOf take a node of the map apart, as in "data set readings/clean". */
export const kindOf = (node: string) => nodeKinds.find((k) => node.startsWith(`${k} `)) ?? "event";
export const nameOf = (node: string) => node.slice(kindOf(node).length + 1);

const shapes: Record<string, string> = {
  workflow: "rounded-xl border-line bg-raised",
  "data set": "rounded-full border-succeeded/60 bg-surface",
  event: "rounded-sm border-dashed border-waiting/80 bg-surface",
  file: "rounded-sm border-ready/70 bg-surface",
};

type Place = Node<{ name: string; chosen: boolean }, "place">;

function PlaceBox({ data: { name, chosen } }: NodeProps<Place>) {
  const kind = kindOf(name);
  return (
    <div style={{ width: nodeWidth, height: nodeHeight }} className={`flex flex-col justify-center border px-4 text-ink ${shapes[kind]} ${chosen ? "!border-lamp" : ""}`}>
      <Handle type="target" position={Position.Left} isConnectable={false} className="invisible" />
      <span className="truncate font-medium" title={nameOf(name)}>
        {nameOf(name)}
      </span>
      <span className="text-[0.8rem] text-soft">{kind}</span>
      <Handle type="source" position={Position.Right} isConnectable={false} className="invisible" />
    </div>
  );
}

type Arrow = Edge<{ path: string; kind: string }, "arrow">;

/** Only what starts something is a whole line: what is waited for or asked about is dashed. */
function ArrowLine({ data, markerEnd }: EdgeProps<Arrow>) {
  if (!data) return null;
  const dashed = data.kind === "waits" || data.kind === "asks";
  return <path d={data.path} fill="none" stroke="var(--none)" strokeOpacity={0.7} strokeWidth={1.5} markerEnd={markerEnd} {...(dashed && { strokeDasharray: "5 4" })} />;
}

const nodeTypes = { place: PlaceBox };
const edgeTypes = { arrow: ArrowLine };

/** MapGraph draws workflows and what they have in common. */
export default function MapGraph({ links, chosen, onChoose }: { links: MapLink[]; chosen: string; onChoose: (node: string) => void }) {
  const { nodes, edges } = useMemo(() => {
    const after = new Map<string, { task: string; expect: string }[]>();
    const kinds = new Map<string, string>();
    for (const { from, to, kind } of links) {
      if (!after.has(from)) after.set(from, []);
      const list = after.get(to) ?? [];
      if (!list.some((d) => d.task === from)) list.push({ task: from, expect: "succeeded" });
      after.set(to, list);
      kinds.set(edgeName(from, to), kind);
    }
    const laid = lay([...after].map(([name, list]) => ({ name, after: list })));
    const nodes: Place[] = [...after.keys()].map((name) => ({
      id: name,
      type: "place",
      position: laid.places.get(name) ?? { x: 0, y: 0 },
      data: { name, chosen: name === chosen },
      width: nodeWidth,
      height: nodeHeight,
      ariaLabel: name,
    }));
    const edges: Arrow[] = [...after].flatMap(([name, list]) =>
      list.flatMap(({ task: from }) => {
        const id = edgeName(from, name);
        const way = laid.ways.get(id);
        return way ? [{ id, type: "arrow" as const, source: from, target: name, markerEnd: { type: MarkerType.ArrowClosed, color: "var(--none)" }, data: { path: way.path, kind: kinds.get(id) ?? "" } }] : [];
      }),
    );
    return { nodes, edges };
  }, [links, chosen]);
  return (
    <ReactFlow
      key={links.length}
      nodes={nodes}
      edges={edges}
      nodeTypes={nodeTypes}
      edgeTypes={edgeTypes}
      nodesDraggable={false}
      nodesConnectable={false}
      edgesFocusable={false}
      onNodeClick={(_, node) => onChoose(node.id)}
      onSelectionChange={({ nodes: [node] }) => node && node.id !== chosen && onChoose(node.id)}
      fitView
      fitViewOptions={{ padding: 0.05, maxZoom: 1 }}
      minZoom={0.05}
      maxZoom={1.6}
      onlyRenderVisibleElements={nodes.length > 150}
      zoomOnScroll={false}
      preventScrolling={false}
    >
      <Controls showInteractive={false} />
    </ReactFlow>
  );
}
