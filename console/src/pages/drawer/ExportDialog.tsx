import { useState, type ChangeEvent } from "react";
import { useExport } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { save } from "../../parts/download";
import { Choice } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";

// ExportDialog writes the values of a drawer to a file, encrypted to a recipient. In clear it is not done here: a browser
// keeps what it downloads where others may read it.
export function ExportDialog({ drawer, onClose }: { drawer: string; onClose: () => void }) {
  const write = useExport(drawer);
  const [key, setKey] = useState<{ name: string; jwk?: Record<string, unknown> }>();
  const [format, setFormat] = useState<"dotenv" | "json">("dotenv");
  const choose = async (event: ChangeEvent<HTMLInputElement>) => {
    const chosen = event.target.files?.[0];
    if (!chosen) return;
    setKey({ name: chosen.name, jwk: jwkOf(await chosen.text()) });
  };
  const submit = (event: React.FormEvent) => {
    event.preventDefault();
    if (key?.jwk)
      write.mutate({ format, recipient: key.jwk }, { onSuccess: (r) => save(`${drawer}.jwe`, atob(r.content), "application/jose") });
  };
  const left = write.data?.items.filter((it) => it.version === 0) ?? [];
  return (
    <Dialog title={`Export ${drawer}`} settled={Boolean(write.data)} onClose={onClose}>
      {write.data ? (
        <div className="grid gap-4">
          <p role="status">
            <Mark state="usable" word={`${write.data.items.length - left.length} values are in ${drawer}.jwe`} />
          </p>
          {left.length > 0 && (
            <>
              <p>Left out:</p>
              <ul className="list-disc pl-6">
                {left.map((it) => (
                  <li key={it.reference}>
                    <span className="name">{it.reference}</span>: {it.why}
                  </li>
                ))}
              </ul>
            </>
          )}
          <p>
            Its recipient opens it with <code className="name">tansu open {drawer}.jwe --key THEIR.key</code>. Each value is recorded as
            read by you.
          </p>
          <div className="flex justify-end">
            <button type="button" className="btn" onClick={onClose}>
              Close
            </button>
          </div>
        </div>
      ) : (
        <form className="grid gap-4" onSubmit={submit}>
          <p>
            The current values that you may read are written to one file that only the recipient can open. Each counts as a read in the
            trail.
          </p>
          <label className="grid gap-1 text-sm font-semibold">
            The recipient's public key
            <input type="file" className="file-input w-full" onChange={(e) => void choose(e)} />
          </label>
          <p className="muted text-sm">
            They make one with <code className="name">tansu recipient moving.key</code>, keep that file, and send you{" "}
            <code className="name">moving.key.pub</code>.
          </p>
          {key && !key.jwk && (
            <p role="alert">
              <Mark state="failed" word={`${key.name} is not a public key as JWK`} />
            </p>
          )}
          <Choice
            label="Inside it is"
            value={format}
            options={[
              { value: "dotenv", text: "a dotenv file" },
              { value: "json", text: "JSON" },
            ]}
            onChange={(e) => setFormat(e.target.value as "dotenv" | "json")}
          />
          {write.error && <ProblemBox error={write.error} />}
          <DialogButtons onClose={onClose} action="Export" busy={write.isPending || !key?.jwk} />
        </form>
      )}
    </Dialog>
  );
}

// jwkOf reads a public key; a private one is not taken, because it must not be sent anywhere.
function jwkOf(text: string): Record<string, unknown> | undefined {
  try {
    const read: unknown = JSON.parse(text);
    return typeof read === "object" && read !== null && "kty" in read && !("d" in read) ? (read as Record<string, unknown>) : undefined;
  } catch {
    return undefined;
  }
}
