import { Check, ClipboardCopy } from "lucide-react";
import { useState } from "react";

// Copy puts a text on the clipboard and says so.
export function Copy({ text, what }: { text: string; what: string }) {
  const [done, setDone] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setDone(true);
    setTimeout(() => setDone(false), 2000);
  };
  return (
    <button type="button" className="btn btn-ghost btn-xs" onClick={() => void copy()} aria-label={`Copy ${what}`}>
      {done ? <Check className="size-4" aria-hidden /> : <ClipboardCopy className="size-4" aria-hidden />}
      <span role="status">{done ? "Copied" : "Copy"}</span>
    </button>
  );
}
