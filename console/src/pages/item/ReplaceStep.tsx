import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMayThere } from "../../api/may";
import { useAct, useItem } from "../../api/queries";
import { Copy } from "../../parts/Copy";
import { Confirm } from "../../parts/Confirm";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { PutDialog } from "./PutDialog";

type Step = Schemas["Exposure"]["replace"][number];

// ReplaceStep is one thing to do after an exposure, with a button that does it: to suspend a version, or to put a new value in its place.
export function ReplaceStep({ of: step, number }: { of: Step; number: number }) {
  const [target = "", version = ""] = step.reference.split("@");
  const [drawer = "", item = ""] = target.split("/");
  const suspends = step.command.startsWith("tansu item suspend ");
  const puts = step.command.startsWith("tansu put ") || step.command.startsWith("tansu key rotate ");
  const { may } = useMayThere(target);
  const act = useAct(drawer, item);
  const [open, setOpen] = useState(false);
  const history = useItem(drawer, item, open && !suspends && may("see_metadata"));
  const [done, setDone] = useState(false);
  const allowed = suspends ? may("change_item") : puts && may("write_version") && may("see_metadata");
  const close = () => setOpen(false);
  return (
    <li className="border-base-300 flex flex-wrap items-start justify-between gap-3 border-l-2 pl-4">
      <div className="grid min-w-0 gap-1">
        <span>
          <span className="muted mr-2 tabular-nums">{number}</span>
          <Link className="link name font-medium" to={`/drawers/${target}`}>
            {step.reference}
          </Link>
        </span>
        <span>
          {suspends && "Suspend it: "}
          {puts && "Replace its value: "}
          {step.why}
        </span>
        {!allowed && step.command && (
          <span className="flex flex-wrap items-center gap-2">
            <code className="name muted text-sm break-all">{step.command}</code> <Copy text={step.command} what="the command" />
          </span>
        )}
      </div>
      {done ? (
        <Mark state="usable" word="Done" />
      ) : (
        allowed && (
          <button type="button" className="btn btn-outline btn-sm print:hidden" onClick={() => setOpen(true)}>
            {suspends ? "Suspend …" : "Put in a new version …"}
            <span className="sr-only"> {step.reference}</span>
          </button>
        )
      )}
      {open && history.error && (
        <div className="w-full">
          <ProblemBox error={history.error} />
        </div>
      )}
      {open && suspends && (
        <Confirm
          title={`Suspend version ${version} of ${item}?`}
          action="Suspend"
          busy={act.isPending}
          error={act.error}
          onClose={close}
          onYes={() =>
            act.mutate(
              { act: "suspend", version: Number(version) },
              {
                onSuccess: () => {
                  setDone(true);
                  close();
                },
              },
            )
          }
        >
          <p>
            <span className="name">{step.reference}</span> is not served to anybody from now on. Readers that are pinned to it, or have
            nothing newer, fail: check who reads which version first.
          </p>
        </Confirm>
      )}
      {open && !suspends && history.data && (
        <PutDialog
          drawer={drawer}
          item={history.data.item}
          fields={history.data.versions[0]?.fields}
          onPut={() => setDone(true)}
          onClose={close}
        />
      )}
    </li>
  );
}
