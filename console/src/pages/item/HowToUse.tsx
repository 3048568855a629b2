import { useState } from "react";
import { useSamples } from "../../api/queries";
import { Code } from "../../parts/Code";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";

// HowToUse shows how an application reads an item; nothing in it is secret.
export function HowToUse({ reference }: { reference: string }) {
  const [open, setOpen] = useState(false);
  return (
    <details className="border-base-300 rounded-box border p-4" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="cursor-pointer">
        <h2 className="inline text-xl font-semibold">How to use it</h2>
      </summary>
      {open && <Samples reference={reference} />}
    </details>
  );
}

function Samples({ reference }: { reference: string }) {
  const samples = useSamples(reference);
  const [chosen, setChosen] = useState("shell");
  const list = samples.data?.samples ?? [];
  const sample = list.find((s) => s.language === chosen);
  const need = `- variable: ${variable(reference)}\n  reference: ${reference}`;
  return (
    <div className="mt-4 grid grid-cols-1 gap-4">
      <p>
        No code needed: list it in <span className="name">tansu.yaml</span>, and start the program with{" "}
        <span className="name">tansu run</span>.
      </p>
      <Code text={need} what="the need" />
      {samples.isPending && <Loading what="samples" />}
      {samples.error && <ProblemBox error={samples.error} />}
      <div className="flex flex-wrap gap-2" role="group" aria-label="Language">
        {list.map((s) => (
          <button
            key={s.language}
            type="button"
            className={`btn btn-sm ${s.language === chosen ? "btn-primary" : "btn-outline"}`}
            aria-pressed={s.language === chosen}
            onClick={() => setChosen(s.language)}
          >
            {s.title}
          </button>
        ))}
      </div>
      {sample && <Code text={sample.text.trimEnd()} what={`the sample in ${sample.title}`} />}
    </div>
  );
}

// variable is a usual name for a variable that holds an item.
const variable = (reference: string) => (reference.split("/")[1] ?? "").toUpperCase().replace(/[^A-Z0-9]+/g, "_");
