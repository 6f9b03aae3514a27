import { useMutation } from "@tanstack/react-query";
import { Play } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { call, workflowPath, type Param, type Run } from "../api/client";
import { Button } from "../parts/button";
import { Dialog, DialogClose } from "../parts/dialog";
import { Command } from "../parts/notes";

const asText = (value: unknown) => (value === undefined || value === null ? "" : typeof value === "string" ? value : JSON.stringify(value));

/** StartDialog asks for the params of a run and starts it. */
export function StartDialog({ workflow, params }: { workflow: string; params: Param[] }) {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [given, setGiven] = useState<Record<string, string>>({});
  const start = useMutation({
    mutationFn: () => call<Run>("POST", `${workflowPath(workflow)}/runs`, { texts: given }),
    onSuccess: (run) => navigate(`/runs/${run.id}`),
  });
  const words = Object.entries(given).map(([name, value]) => ` -p ${name}=${value}`);
  return (
    <Dialog
      open={open}
      onOpenChange={(next) => {
        setOpen(next);
        setGiven({});
        start.reset();
      }}
      title={`Start ${workflow}`}
      about="A run now, without a window. What is left as it is takes its default."
      trigger={
        <Button look="lamp">
          <Play size={15} /> Start
        </Button>
      }
    >
      <form
        className="flex flex-col gap-4"
        onSubmit={(event) => {
          event.preventDefault();
          start.mutate();
        }}
      >
        {params.map((param) => (
          <label key={param.name} className="flex flex-col gap-1">
            <span>
              <span className="font-mono text-[0.93em]">{param.name}</span> <span className="text-soft">{param.about ?? param.type}</span>
            </span>
            <Field
              param={param}
              value={given[param.name]}
              onChange={(value) => setGiven((before) => ({ ...before, [param.name]: value }))}
            />
          </label>
        ))}
        {start.error && (
          <p role="alert" className="whitespace-pre-line text-failed">
            ✕ {start.error.message}
          </p>
        )}
        <p className="text-soft">
          The same in a terminal: <Command>{`lantern start ${workflow}${words.join("")}`}</Command>
        </p>
        <div className="flex justify-end gap-2">
          <DialogClose asChild>
            <Button>Leave it</Button>
          </DialogClose>
          <Button look="lamp" type="submit" disabled={start.isPending}>
            Start
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

const fieldLook = "h-9 rounded-lg border border-line bg-ground px-3";

function Field({ param, value, onChange }: { param: Param; value: string | undefined; onChange: (value: string) => void }) {
  const fallback = asText(param.default);
  const choices = param.type === "choice" ? (param.choice ?? []) : param.type === "bool" ? ["true", "false"] : undefined;
  if (choices) {
    return (
      <select className={fieldLook} required={param.required ?? false} value={value ?? fallback} onChange={(event) => onChange(event.target.value)}>
        {!fallback && <option value="" disabled hidden />}
        {choices.map((choice) => (
          <option key={choice}>{choice}</option>
        ))}
      </select>
    );
  }
  return <input type={param.secret ? "password" : "text"} autoComplete="off" className={fieldLook} required={param.required ?? false} value={value ?? fallback} onChange={(event) => onChange(event.target.value)} />;
}
