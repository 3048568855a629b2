import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useApplyPolicy, useDiffPolicy, usePolicy } from "../../api/rights";
import { Difference } from "../../parts/Difference";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { Tabs } from "./Tabs";

// PolicyPage shows the whole access state as text, compares an edited one with what is there, and applies it.
export function PolicyPage() {
  const policy = usePolicy();
  const diff = useDiffPolicy();
  const apply = useApplyPolicy();
  const [text, setText] = useState<string | null>(null);
  const [expectations, setExpectations] = useState("");
  const current = text ?? (policy.data ? policy.data.policy + expectations : "");
  const edit = (changed: string) => {
    setText(changed);
    diff.reset();
    apply.reset();
  };
  const applyOnto = (mark: string, lockout: boolean) => {
    const applied = () => {
      setExpectations(expectationsOf(current));
      setText(null);
    };
    apply.mutate({ policy: current, onto: mark, allow_lockout: lockout }, { onSuccess: applied });
  };
  return (
    <>
      <Tabs />
      <PageHead
        title="Policy file"
        aside={
          policy.data && (
            <>
              <button type="button" className="btn btn-outline" onClick={() => download(current)}>
                Download
              </button>
              <button type="button" className="btn btn-primary" disabled={diff.isPending} onClick={() => diff.mutate(current)}>
                Compare
              </button>
            </>
          )
        }
      >
        All access as text, to review and keep under version control. Applying it ends what it leaves out.
      </PageHead>
      {policy.isPending && <Loading what="the policy" />}
      {policy.error && <ProblemBox error={policy.error} />}
      {apply.data && (
        <p role="status" className="bg-base-200 border-success mb-4 border-l-4 p-3">
          In force now: {apply.data.steps.length} steps. The access state is <span className="name">{apply.data.mark}</span>.
        </p>
      )}
      {(diff.error ?? apply.error) && (
        <div className="mb-4">
          <Problems error={diff.error ?? apply.error} />
        </div>
      )}
      {diff.data && !apply.data && (
        <Compared d={diff.data} busy={apply.isPending} onApply={(lockout) => applyOnto(diff.data.mark, lockout)} />
      )}
      {policy.data && <Editor text={current} onEdit={edit} />}
    </>
  );
}

// expectationsOf is the part of a policy that is the text's and not the chest's: it stays when the rest is read anew.
function expectationsOf(text: string): string {
  const kept: string[] = [];
  let inside = false;
  for (const line of text.split("\n")) {
    if (/^[^\s#-]/.test(line)) inside = line.startsWith("expectations:");
    if (inside) kept.push(line);
  }
  return kept.length > 0 ? kept.join("\n").trimEnd() + "\n" : "";
}

// download gives the text to the browser as a file.
function download(text: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "application/yaml" }));
  link.download = "access.yaml";
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}

function Editor({ text, onEdit }: { text: string; onEdit: (text: string) => void }) {
  const lines = text.split("\n").length;
  return (
    <div className="border-base-300 rounded-box flex overflow-hidden border">
      <pre aria-hidden className="bg-base-200 muted name m-0 px-3 py-3 text-right text-sm leading-6 select-none">
        {Array.from({ length: lines }, (_, i) => i + 1).join("\n")}
      </pre>
      <textarea
        aria-label="The policy"
        className="name grow resize-none overflow-x-auto bg-transparent p-3 text-sm leading-6 whitespace-pre"
        wrap="off"
        spellCheck={false}
        rows={lines}
        value={text}
        onChange={(e) => onEdit(e.target.value)}
      />
    </div>
  );
}

// Problems shows one line for each problem of the text; any other error as ever.
function Problems({ error }: { error: unknown }) {
  return (
    <div className="whitespace-pre-line">
      <ProblemBox error={error} />
    </div>
  );
}

type ComparedProps = { d: Schemas["PolicyDifference"]; busy: boolean; onApply: (lockout: boolean) => void };

function Compared({ d, busy, onApply }: ComparedProps) {
  if (d.steps.length === 0)
    return (
      <p role="status" className="bg-base-200 mb-4 border-l-4 p-3">
        No difference: the chest already matches the file.
      </p>
    );
  return (
    <section className="panel mb-6 grid gap-4" aria-label="The difference">
      <h2 className="text-xl font-semibold">If it were applied</h2>
      {d.stale && (
        <p className="text-warning font-semibold">Access has changed since this file was exported: review the difference carefully.</p>
      )}
      <Difference of={d} />
      <details>
        <summary className="cursor-pointer font-semibold">Step by step: {d.steps.length}</summary>
        <ul className="name mt-2 grid gap-1 text-sm">
          {d.steps.map((s) => (
            <li key={s}>{s}</li>
          ))}
        </ul>
      </details>
      {d.failures.map((f) => (
        <p key={f.line} className="text-error font-semibold">
          Line {f.line}: it would not hold that {f.expectation}: {f.why}
        </p>
      ))}
      <button
        type="button"
        className="btn btn-primary justify-self-start"
        disabled={busy || d.failures.length > 0}
        onClick={() => onApply(d.lockout)}
      >
        {d.lockout ? "Apply it, and let nobody give access any more" : "Apply it"}
      </button>
    </section>
  );
}
