import { useState } from "react";
import { useManifest, usePreflight } from "../../api/queries";
import { Dialog } from "../../parts/Dialog";
import { Area, Choice } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { Answer } from "./Answer";
import { Table } from "../../parts/Table";

// ManifestDialog asks whether all that a manifest needs would be served to an app now. The manifest is not kept.
export function ManifestDialog({ subject, onClose }: { subject: string; onClose: () => void }) {
  const [text, setText] = useState("");
  const [environment, setEnvironment] = useState("");
  const manifest = useManifest();
  const preflight = usePreflight(subject);
  const environments = manifest.data?.environments ?? [];
  const chosen = environments.find((e) => e.name === environment) ?? environments[0];
  const answers = new Map((preflight.data?.checks ?? []).map((c) => [c.reference, c]));
  const missing = (preflight.data?.checks ?? []).filter((c) => !c.served).length;
  const choose = (of: { name: string; needs: { reference: string }[] } | undefined) => {
    if (!of) return;
    setEnvironment(of.name);
    preflight.mutate([...new Set(of.needs.map((n) => n.reference))]);
  };
  const read = () => manifest.mutate(text, { onSuccess: (read) => choose(read.environments[0]) });
  return (
    <Dialog title={`What ${subject} needs`} wide onClose={onClose}>
      <form
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault();
          read();
        }}
      >
        <Area
          label="Manifest"
          name="manifest"
          rows={6}
          required
          value={text}
          onChange={(event) => setText(event.target.value)}
          hint="The text of tansu.yaml in the app's repository. It has no values, and is not kept."
        />
        {manifest.error && <ProblemBox error={manifest.error} />}
        {preflight.error && <ProblemBox error={preflight.error} />}
        {chosen && environments.length > 1 && (
          <Choice
            label="Environment"
            value={chosen.name}
            onChange={(event) => choose(environments.find((e) => e.name === event.target.value))}
            options={environments.map((e) => ({ value: e.name, text: e.name }))}
          />
        )}
        {manifest.data?.app && `app:${manifest.data.app}` !== subject && (
          <p role="note">
            The manifest is of <span className="name">app:{manifest.data.app}</span>, and not of <span className="name">{subject}</span>.
          </p>
        )}
        {chosen && preflight.data && (
          <>
            <p role="status" className="font-semibold">
              {missing === 0 ? "All of it would be served now." : `${missing} of ${answers.size} would not be served.`}
            </p>
            <Table
              label="Table of what the manifest needs"
              rows={chosen.needs}
              id={(n) => n.delivery}
              columns={[
                { head: "Handed over as", className: "name", cell: (n) => n.delivery },
                { head: "Reference", className: "name", cell: (n) => n.reference },
                { head: "Now", cell: (n) => <Answer of={answers.get(n.reference)} /> },
              ]}
            />
          </>
        )}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-ghost" onClick={onClose}>
            Close
          </button>
          <button type="submit" className="btn btn-primary" disabled={manifest.isPending || preflight.isPending}>
            Check it
          </button>
        </div>
      </form>
    </Dialog>
  );
}
