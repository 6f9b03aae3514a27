import { Check, Copy } from "lucide-react";
import { useState } from "react";

/** CopyButton takes a text along, an id or a command. */
export function CopyButton({ text, what }: { text: string; what: string }) {
  const [taken, setTaken] = useState(false);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text);
    } catch {
      // Without a secure context there is no clipboard but the old way.
      const field = document.createElement("textarea");
      field.value = text;
      document.body.append(field);
      field.select();
      document.execCommand("copy");
      field.remove();
    }
    setTaken(true);
    setTimeout(() => setTaken(false), 1500);
  };
  return (
    <button type="button" onClick={() => void copy()} aria-label={`Copy ${what}`} title={`Copy ${what}`} className="rounded-md p-1 align-middle text-soft hover:bg-raised hover:text-ink">
      {taken ? <Check size={14} aria-hidden /> : <Copy size={14} aria-hidden />}
      <span role="status" className="sr-only">
        {taken ? "copied" : ""}
      </span>
    </button>
  );
}
