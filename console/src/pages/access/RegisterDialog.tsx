import { useState, type FormEvent } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useRegister } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { ShownOnce } from "../../parts/ShownOnce";
import { SubjectField } from "../../parts/SubjectField";
import { environments } from "./words";

type RegisterDialogProps = { kind: "person" | "app" | "team"; onDone: () => void; onClose: () => void };

const titles = { app: "Register an app", person: "Register a person", team: "Create a team" };
const hints = { app: "Such as ticket-api.", person: "By duty, such as platform-oncall.", team: "Such as harbour-crew." };

// RegisterDialog registers somebody and then shows the credential, once.
export function RegisterDialog({ kind, onDone, onClose }: RegisterDialogProps) {
  const register = useRegister();
  const may = useMay();
  const [owner, setOwner] = useState("");
  // Whoever has seen an app's secret can act as it, and so may not give it access: that of somebody else's app is left to its owner.
  const others = owner !== "" && owner !== may.subject && !may.steward;
  const mine = !others && !may.steward && may.somewhere("grant");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    const body: Schemas["NewIdentity"] = { kind, name: text("name"), description: text("description"), owner: text("owner") };
    if (kind === "app") body.purpose = text("purpose");
    if (kind === "app" && text("sign_in") === "owner") body.no_secret = true;
    if (kind === "app" && text("environment")) body.environment = text("environment") as "production" | "staging" | "development";
    register.mutate(body, { onSuccess: onDone });
  };
  if (register.data) {
    return (
      <Dialog title="Registered" once={Boolean(register.data.credential)} settled onClose={onClose}>
        {register.data.credential && <ShownOnce issued={register.data.credential} subject={register.data.identity.subject} />}
        {register.data.notes.map((n) => (
          <p key={n} className="text-warning mt-2 font-semibold">
            Note: {n}
          </p>
        ))}
        <p className="mt-4">
          <span className="name">{register.data.identity.subject}</span> may do nothing yet.{" "}
          <Link className="link" to={`/access/${register.data.identity.subject}`} onClick={onClose}>
            Its page
          </Link>{" "}
          gives it access{kind === "team" && " and members"}
          {kind === "app" &&
            !register.data.credential &&
            `, and there ${register.data.identity.owner || "its owner"} adds a sign-in method`}
          .
        </p>
        <div className="mt-4 flex justify-end">
          <button type="button" className="btn btn-primary" onClick={onClose}>
            {register.data.credential ? "Done, I have it" : "Done"}
          </button>
        </div>
      </Dialog>
    );
  }
  return (
    <Dialog title={titles[kind]} onClose={onClose}>
      <form
        className="grid gap-4"
        onSubmit={submit}
        onChange={(event) => setOwner(String(new FormData(event.currentTarget).get("owner") ?? "").trim())}
      >
        <Field label="Name" name="name" required className="name" hint={hints[kind]} />
        <Field label="Description" name="description" />
        {kind === "app" && (
          <>
            <Field label="Purpose" name="purpose" hint="What it does with what it reads." />
            <Choice label="Runs in" name="environment" options={environments} />
            <SubjectField
              label="Owner"
              name="owner"
              kinds={["person", "team"]}
              placeholder="person:ticketing-lead"
              hint={
                mine
                  ? "Who answers for it, and adds how it signs in. Unless that is somebody else, another gatekeeper has to give it access."
                  : "Who answers for it."
              }
            />
            <Choice
              key={String(others)}
              label="It signs in with"
              name="sign_in"
              defaultValue={others ? "owner" : "secret"}
              options={[
                { value: "secret", text: "a client secret, shown to you once" },
                { value: "owner", text: "what its owner adds: you never see it" },
              ]}
              hint={others ? "With a client secret that you have seen, somebody else would have to give the app its access." : undefined}
            />
          </>
        )}
        {register.error && <ProblemBox error={register.error} />}
        <DialogButtons onClose={onClose} action="Register" busy={register.isPending} />
      </form>
    </Dialog>
  );
}
