import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { RotateCcw } from "lucide-react";
import { useState, type ReactNode } from "react";
import { call, runPath, type Rerun, type Run, type Task } from "../api/client";
import { Button } from "../parts/button";
import { Dialog, DialogClose } from "../parts/dialog";
import { CopyButton } from "../parts/copy";
import { Command } from "../parts/notes";

interface Act {
  trigger: ReactNode;
  title: string;
  about: ReactNode;
  command: string; // what does the same in a terminal
  path: string;
  body: unknown;
  verb: string;
  look?: "lamp" | "danger";
  leave?: string;
  onOpen?: (open: boolean) => void;
}

/** ActDialog shows what an action will touch, and does it when it is confirmed. */
export function ActDialog({ trigger, title, about, command, path, body, verb, look = "lamp", leave = "Leave it", onOpen }: Act) {
  const [open, setOpen] = useState(false);
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: () => call("POST", path, body),
    onSuccess: () => setOpen(false),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Dialog
      open={open}
      onOpenChange={(next) => {
        setOpen(next);
        onOpen?.(next);
        act.reset();
      }}
      title={title}
      about={about}
      trigger={trigger}
    >
      {act.error && (
        <p role="alert" className="mb-4 text-failed">
          ✕ {act.error.message}
        </p>
      )}
      <p className="mb-4 text-soft">
        The same in a terminal: <Command>{command}</Command> <CopyButton text={command} what="the command" />
      </p>
      <div className="flex justify-end gap-2">
        <DialogClose asChild>
          <Button>{leave}</Button>
        </DialogClose>
        <Button look={look} disabled={act.isPending} onClick={() => act.mutate()}>
          {verb}
        </Button>
      </div>
    </Dialog>
  );
}

/** RerunDialog makes tasks of a run again: the failed ones, those from a task on, or one alone. */
export function RerunDialog(props: { run: Run; how: "failed" | "from" | "only"; task?: string; name: string; look?: "plain" | "bare" }) {
  const { run, how, task, name, look = "plain" } = props;
  const [asked, setAsked] = useState(false);
  const [follow, setFollow] = useState(false);
  const chosen = how === "failed" ? { failed: true } : { [how]: [task] };
  const body = follow ? { ...chosen, follow_on: true } : chosen;
  const path = `${runPath(run.id)}/rerun`;
  const preview = useQuery({
    queryKey: ["rerun", run.id, how, task],
    queryFn: () => call<Rerun>("POST", path, { ...chosen, follow_on: true, dry_run: true }),
    enabled: asked,
    retry: false,
  });
  return (
    <ActDialog
      onOpen={setAsked}
      trigger={
        <Button look={look}>
          <RotateCcw size={15} /> {name}
        </Button>
      }
      title={`${name} in ${run.id}?`}
      about={
        preview.error ? (
          <span className="text-failed">✕ {preview.error.message}</span>
        ) : (
          <>
            Made again, within this run and on version {run.version}: <span className="text-ink">{preview.data?.tasks.join(", ") ?? "…"}</span>. The attempts that they had stay readable.
            {!!preview.data?.follow_on?.length && (
              <label className="mt-3 flex items-start gap-2.5">
                <input type="checkbox" checked={follow} onChange={(event) => setFollow(event.target.checked)} className="mt-1 accent-lamp" />
                <span>
                  Then, in order, what rested on them in other workflows:{" "}
                  <span className="text-ink">{preview.data.follow_on.map((f) => (f.tasks ? `${f.run} (${f.tasks.join(", ")})` : f.run)).join(", ")}</span>
                </span>
              </label>
            )}
          </>
        )
      }
      command={`lantern rerun ${run.id} --${how}${task ? ` ${task}` : ""}${follow ? " --follow-on" : ""}`}
      path={path}
      body={body}
      verb="Make them again"
    />
  );
}

/** ReleaseDialogs give a person's word about a held task. */
export function ReleaseDialogs({ run, task }: { run: Run; task: Task }) {
  const words = [
    { as: "run", name: "Have it run", about: "It is made ready, and runs as soon as a worker is free." },
    { as: "succeeded", name: "As succeeded", about: "The run goes on as if it had succeeded. It has no result." },
    { as: "skipped", name: "As skipped", about: "The run goes on as if it had been skipped; what needs its success is skipped too." },
  ];
  return words.map(({ as, name, about }) => (
    <ActDialog
      key={as}
      trigger={<Button look={as === "run" ? "lamp" : "plain"}>{name}</Button>}
      title={`Release ${task.name} of ${run.id}?`}
      about={about}
      command={`lantern release ${run.id} ${task.name} --as ${as}`}
      path={`${runPath(run.id)}/release`}
      body={{ task: task.name, as }}
      verb={name}
    />
  ));
}

/** StopTaskDialog ends one task; the run goes on with what does not need it. */
export function StopTaskDialog({ run, task }: { run: Run; task: Task }) {
  return (
    <ActDialog
      trigger={<Button look="bare">Stop this task</Button>}
      title={`Stop ${task.name} of ${run.id}?`}
      about={task.state === "running" ? "It gets SIGTERM and ten seconds to end. What needs its success is not reached; the rest of the run goes on." : "It does not begin any more. What needs its success is not reached; the rest of the run goes on."}
      command={`lantern stop ${run.id} ${task.name}`}
      path={`${runPath(run.id)}/stop`}
      body={{ task: task.name }}
      verb="Stop the task"
      look="danger"
      leave="Leave it going"
    />
  );
}
