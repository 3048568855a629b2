import { Link } from "react-router";
import { useMay } from "../../api/may";
import { useBackups, useUnlockMethods } from "../../api/operation";
import { useIdentities } from "../../api/queries";
import { useGrants } from "../../api/rights";
import { useUpkeep } from "../../api/trail";
import { Mark } from "../../parts/Mark";

type Step = { done: boolean | undefined; what: string; why: string; to: string; text: string };

// FirstHours leads the steward of a new chest through what keeps it from being lost or locked for good. Each step is looked
// at as it is now.
export function FirstHours() {
  const identities = useIdentities();
  const grants = useGrants();
  const methods = useUnlockMethods();
  const backups = useBackups();
  const upkeep = useUpkeep();
  const people = (identities.data?.identities ?? []).filter((i) => i.subject.startsWith("person:") && i.enrolled && i.state === "active");
  const gives = (grants.data?.grants ?? []).filter((g) => g.in_force && g.role === "gatekeeper" && g.subject.startsWith("person:"));
  const held = (methods.data?.methods ?? []).some((m) => m.kind === "shares") || (methods.data?.methods.length ?? 0) > 1;
  const steps: Step[] = [
    {
      done: identities.data && people.length > 2,
      what: "Register the people who will look after it",
      why: "You exist to appoint them. Each gets a code with which they choose a password.",
      to: "/access?kind=person",
      text: "Register people",
    },
    {
      done: grants.data && new Set(gives.map((g) => g.subject)).size > 1,
      what: "Appoint two gatekeepers",
      why: "They register others and give access. With only one, a single absence leaves nobody who can.",
      to: "/access/grants",
      text: "Give access",
    },
    {
      done: methods.data && held,
      what: "Let a second method, or custodians, unlock it",
      why: "A chest that one passphrase opens is lost when that is.",
      to: "/operation",
      text: "Add a method",
    },
    {
      done: backups.data && backups.data.backups.some((b) => !b.problem),
      what: "Have backups made, and rehearse restoring one",
      why: "The service makes them when it is started with --backup-to and --backup-recipient.",
      to: "/operation",
      text: "Backups",
    },
    {
      done: upkeep.data && upkeep.data.witnesses.length > 0,
      what: "Name a witness of the trail",
      why: "It keeps checkpoints elsewhere, so that nobody rewrites the past unnoticed: tansu serve --witness.",
      to: "/trail/upkeep",
      text: "Witnesses",
    },
  ];
  const left = steps.filter((s) => s.done === false).length;
  return (
    <Steps
      title="The first hours of this chest"
      intro={
        left === 0
          ? "All of it is done. Set the steward aside, above, and work as one of those you appointed."
          : "Until these are done, it can be lost, or locked for good."
      }
      steps={steps}
    />
  );
}

// FirstApp leads whoever registers apps to the first one that reads a secret as itself.
export function FirstApp({ drawers }: { drawers: number }) {
  const may = useMay();
  const identities = useIdentities();
  const grants = useGrants();
  const apps = (identities.data?.identities ?? []).filter((i) => i.subject.startsWith("app:"));
  const reads = apps.some((a) => a.seen.at);
  if (!identities.data || !grants.data || reads) return null;
  const granted = grants.data.grants.some((g) => g.in_force && g.subject.startsWith("app:"));
  const steps: Step[] = [
    {
      done: drawers > 0,
      what: "Create a drawer, and put a secret in",
      why: "One drawer for each application and environment.",
      to: "/",
      text: "The chest",
    },
    {
      done: apps.length > 0,
      what: may.steward ? "Register the app" : "Register the app, with a developer as its owner",
      why: may.steward
        ? "It signs in as itself, and not as you."
        : "The developer is a person of the chest whom somebody else confirms. They add how the app signs in; then you may give it access.",
      to: "/access",
      text: "Register an app",
    },
    {
      done: granted,
      what: "Give it the least that it needs",
      why: "The role consumer on one item, or on its drawer.",
      to: apps[0] && may.somewhere("grant") ? `/access/${apps[0].subject}` : "/access/grants",
      text: "Give access",
    },
    {
      done: reads,
      what: "Let it read",
      why: "The item's page shows how, in several languages; then see the read in the trail.",
      to: "/",
      text: "The chest",
    },
  ];
  return <Steps title="The first app" intro="From a secret to a program that reads it as itself." steps={steps} />;
}

function Steps({ title, intro, steps }: { title: string; intro: string; steps: Step[] }) {
  return (
    <section aria-label={title} className="panel mb-8 grid gap-3">
      <div>
        <h2 className="text-xl font-semibold">{title}</h2>
        <p className="muted">{intro}</p>
      </div>
      <ol className="divide-base-300 divide-y">
        {steps.map((s, i) => (
          <li key={s.what} className="flex flex-wrap items-center justify-between gap-3 py-2">
            <span className="flex min-w-0 items-start gap-3">
              <span className="muted w-5 pt-0.5 text-right tabular-nums">{i + 1}</span>
              <span>
                <span className={s.done ? "" : "font-semibold"}>{s.what}</span>
                <span className="muted block text-sm">{s.why}</span>
              </span>
            </span>
            {s.done ? (
              <Mark state="usable" word="done" />
            ) : (
              <Link className="btn btn-outline btn-sm" to={s.to}>
                {s.text}
              </Link>
            )}
          </li>
        ))}
      </ol>
    </section>
  );
}
