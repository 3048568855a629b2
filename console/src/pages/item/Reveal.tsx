import { Eye, EyeOff } from "lucide-react";
import { useCallback, useEffect, useState, type FormEvent } from "react";
import { api, data, problemOf } from "../../api/client";
import { Copy } from "../../parts/Copy";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { bytesOf, viewsOf } from "./views";

// A grant that wants to know why is told before the value is asked for.
type RevealProps = { reference: string; version?: number; small?: boolean; needsReason?: boolean };

// How long a value stays on the screen, in seconds.
const shownFor = 20;

// Reveal reads a value at one press and hides it by itself: after a while, when the page is left, and when another
// window comes before it. The value is in this component's state and nowhere else; each press is a read in the trail.
export function Reveal({ reference, version, small = false, needsReason = false }: RevealProps) {
  const [text, setText] = useState<Part[] | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [asking, setAsking] = useState(false);
  const [left, setLeft] = useState(0);
  const hide = useCallback(() => setText(null), []);
  useEffect(() => {
    if (text === null) return;
    const ends = Date.now() + shownFor * 1000;
    const timer = setInterval(() => {
      const seconds = Math.ceil((ends - Date.now()) / 1000);
      setLeft(seconds);
      if (seconds <= 0) hide();
    }, 250);
    const onHidden = () => document.hidden && hide();
    document.addEventListener("visibilitychange", onHidden);
    return () => {
      clearInterval(timer);
      document.removeEventListener("visibilitychange", onHidden);
    };
  }, [text, hide]);

  const reveal = async (reason?: string) => {
    setError(null);
    setAsking(needsReason && !reason);
    if (needsReason && !reason) return;
    try {
      const value = await read(reference, reason);
      setLeft(shownFor);
      setText(value);
    } catch (problem) {
      setError(problem);
    }
  };
  const shown = text !== null;
  const button = (
    <button type="button" className={small ? "btn btn-outline btn-xs" : "btn btn-outline"} onClick={() => (shown ? hide() : void reveal())}>
      {shown ? <EyeOff className="size-4" aria-hidden /> : <Eye className="size-4" aria-hidden />} {shown ? "Hide" : "Reveal"}
      <span className="sr-only"> {reference}</span>
    </button>
  );
  return (
    <div className={small ? "grid gap-2" : "panel grid gap-3"}>
      <div className="flex flex-wrap items-center justify-between gap-3">
        {!small && (
          <h2 className="text-xl font-semibold">
            Value{version ? <span className="muted font-sans text-base font-normal"> of version {version}</span> : null}
          </h2>
        )}
        {button}
      </div>
      {shown ? (
        <Shown text={text} left={left} />
      ) : (
        !small && (
          <p className="name muted" aria-label="hidden">
            ••••••••••••••••
          </p>
        )
      )}
      {(asking || problemOf(error).reason === "reason_needed") && <ReasonForm onReason={(reason) => void reveal(reason)} />}
      {error !== null && problemOf(error).reason !== "reason_needed" && <ProblemBox error={error} />}
    </div>
  );
}

// ReasonForm asks why, where a grant wants to know it.
function ReasonForm({ onReason }: { onReason: (reason: string) => void }) {
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    onReason(String(new FormData(event.currentTarget).get("reason")));
  };
  return (
    <form className="flex flex-wrap items-end gap-3" onSubmit={submit}>
      <div className="grow">
        <Field
          label="Why do you need it?"
          name="reason"
          required
          maxLength={200}
          hint="Your grant asks for a reason. It is in the trail."
        />
      </div>
      <button type="submit" className="btn btn-primary">
        Reveal with this reason
      </button>
    </form>
  );
}

// Part is a value, or one field of it.
type Part = { name: string; bytes: Uint8Array };

function Shown({ text: parts, left }: { text: Part[]; left: number }) {
  return (
    <div className="grid gap-2">
      {parts.map((p) => (
        <OnePart key={p.name} part={p} />
      ))}
      <p className="muted text-sm">Hides by itself in {left} s. The read is in the trail.</p>
    </div>
  );
}

// OnePart shows bytes in one of the ways in which they can be written. An encoding protects nothing, and says its name.
function OnePart({ part }: { part: Part }) {
  const views = viewsOf(part.bytes);
  const [chosen, setChosen] = useState(views[0]?.name ?? "base64");
  const view = views.find((v) => v.name === chosen) ?? views[0];
  return (
    <div className="grid gap-1">
      {part.name && <span className="name text-sm font-semibold">{part.name}</span>}
      <pre className="bg-base-300 rounded-field name max-h-96 overflow-y-auto p-3 whitespace-pre-wrap" data-value>
        {view?.text}
      </pre>
      <span className="flex flex-wrap items-center gap-2">
        <Copy text={view?.text ?? ""} what={part.name || "the value"} />
        <select
          aria-label={`How ${part.name || "the value"} is written`}
          className="select select-sm w-auto"
          value={view?.name}
          onChange={(e) => setChosen(e.target.value)}
        >
          {views.map((v) => (
            <option key={v.name} value={v.name}>
              {v.name}
            </option>
          ))}
        </select>
        <span className="muted text-sm">{part.bytes.length} bytes</span>
      </span>
    </div>
  );
}

// read gets the bytes of a value, or of each of its fields.
async function read(reference: string, reason?: string): Promise<Part[]> {
  const [drawer = "", item = ""] = reference.split("/");
  const value = await data(
    api.GET("/api/values/{drawer}/{item}", { params: { path: { drawer, item } }, headers: reason ? { "Tansu-Reason": reason } : {} }),
  );
  if (typeof value === "string") throw new Error("the answer has no value");
  if (value.fields) return value.fields.map((f) => ({ name: f.name, bytes: bytesOf(f.value) }));
  return [{ name: "", bytes: bytesOf(value.value) }];
}
