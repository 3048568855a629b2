import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useKeyTypes } from "../../api/keys";
import { useAddVersion, useCreateItem, useLimits } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { EndChoice, endOf } from "../../parts/EndChoice";
import { Choice, Field, Tick } from "../../parts/Field";
import { NameField } from "../../parts/NameField";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import { operations } from "./keyWords";
import { Notes } from "./Notes";
import { encoded } from "./shapes";

type KeyDialogProps = {
  drawer: string;
  rules?: Schemas["Rules"];
  item?: Schemas["Item"];
  onPut?: () => void;
  onClose: () => void;
};

// KeyDialog makes a key, or the next version of one, in the chest; or takes one that was made elsewhere.
export function KeyDialog({ drawer, rules, item, onPut, onClose }: KeyDialogProps) {
  const create = useCreateItem(drawer);
  const add = useAddVersion(drawer, item?.name ?? "", item?.revision ?? 0);
  const navigate = useNavigate();
  const limits = useLimits().data;
  const [brings, setBrings] = useState(false);
  const [stored, setStored] = useState<Schemas["Stored"]>();
  const goOn = (s: Schemas["Stored"]) => (item ? onClose() : void navigate(`/drawers/${drawer}/${s.item.name}`));
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const version: Schemas["NewVersion"] = { note: text("note") };
    const { not_after } = endOf(form);
    if (not_after) version.not_after = not_after;
    if (form.get("staged")) version.staged = true;
    if (brings) version.brought = await encoded(form.get("brought"));
    const done = (s: Schemas["Stored"]) => {
      onPut?.();
      if (s.version.notes && s.version.notes.length > 0) setStored(s);
      else goOn(s);
    };
    if (item) add.mutate(version, { onSuccess: done });
    else
      create.mutate(
        {
          name: text("name"),
          description: text("description"),
          owner: text("owner"),
          key: {
            ...(!brings && { type: text("type") }),
            ...(text("for") && { key_ops: text("for").split(" ") as Schemas["KeyOperation"][] }),
            ...(form.get("given_out") && { given_out: true }),
          },
          version,
        },
        { onSuccess: done },
      );
  };
  const error = create.error ?? add.error;
  if (stored) return <Notes stored={stored} onClose={() => goOn(stored)} />;
  return (
    <Dialog title={item ? `Rotate ${item.name}` : `Create a key in ${drawer}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)} autoComplete="off">
        {item && <p>The new version signs and encrypts from now on. Older ones go on decrypting and verifying what they made.</p>}
        {!item && <NameField />}
        <Choice
          label="The key"
          value={brings ? "bring" : "make"}
          onChange={(e) => setBrings(e.target.value === "bring")}
          options={[
            { value: "make", text: "is made in the chest" },
            { value: "bring", text: "was made elsewhere: I bring it" },
          ]}
          hint={brings ? undefined : "Nobody has ever had it."}
        />
        {brings && (
          <Field
            label="Private key"
            name="brought"
            type="file"
            required
            className="file-input"
            hint="PEM, PKCS #8, or a JWK; without a passphrase. Destroy the file afterwards: whoever has it has the key."
          />
        )}
        {!item && <TypeFields brings={brings} />}
        <EndChoice
          label="Used until"
          days={[30, 90, 365]}
          chosen={rules?.needs_end ? "90" : "never"}
          never={rules?.needs_end ? undefined : "no end"}
        />
        {!item && (
          <>
            <Field
              label="Description"
              name="description"
              maxLength={limits?.description}
              hint="Everyone who may list the drawer reads this."
            />
            <SubjectField
              label="Owner"
              name="owner"
              kinds={["person", "team"]}
              required={Boolean(rules?.owner)}
              placeholder="person:ticketing-lead"
              hint="Who answers for it, and is told before it ends."
            />
            <Tick name="given_out">Whoever may read the item gets the key itself, for good. Leave this off: then it never leaves.</Tick>
          </>
        )}
        <Field label="Note" name="note" maxLength={limits?.note} hint="Why this version." />
        {item && <Tick name="staged">Staged: wait until somebody promotes it</Tick>}
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={item ? "Rotate" : "Create the key"} busy={create.isPending || add.isPending} />
      </form>
    </Dialog>
  );
}

// TypeFields ask for the type of a key and what it is for, and say what that is good for. The type of a key that is brought is its own.
function TypeFields({ brings }: { brings: boolean }) {
  const types = useKeyTypes().data?.types ?? [];
  const [chosen, setChosen] = useState("");
  const type = types.find((t) => t.type === chosen);
  const sets = brings ? [["sign", "verify"], ["encrypt", "decrypt"], ["wrapKey", "unwrapKey"], ["deriveBits"]] : (type?.key_ops ?? []);
  return (
    <>
      {!brings && (
        <Choice
          label="Type"
          name="type"
          required
          value={chosen}
          onChange={(e) => setChosen(e.target.value)}
          options={[{ value: "", text: "choose one …" }, ...types.map((t) => ({ value: t.type, text: t.type }))]}
          hint={
            type && (
              <>
                {type.about}
                {!type.approved && " Not approved for FIPS 140-3."}
              </>
            )
          }
        />
      )}
      {sets.length > 1 && (
        <Choice label="What it is for" name="for" options={sets.map((set) => ({ value: set.join(" "), text: operations(set) }))} />
      )}
    </>
  );
}
