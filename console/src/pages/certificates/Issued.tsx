import { useDeferredValue, useState, type FormEvent } from "react";
import { Link } from "react-router";
import { useIssued, useRevoke } from "../../api/certificates";
import type { Schemas } from "../../api/client";
import { Copy } from "../../parts/Copy";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { reasons } from "./words";

type One = Schemas["IssuedCertificate"];

const marks: Record<One["state"], string> = { good: "usable", ended: "ended", revoked: "refused" };

// Issued lists the certificates that an authority has issued; the chest searches all of them.
export function Issued({ drawer, authority, revokes }: { drawer: string; authority: string; revokes: boolean }) {
  const [typed, setTyped] = useState("");
  const issued = useIssued(drawer, authority, useDeferredValue(typed.trim()));
  const [revoking, setRevoking] = useState<One>();
  const list = issued.data?.certificates ?? [];
  return (
    <section aria-labelledby="issued">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
        <h2 id="issued" className="text-xl font-semibold">
          Issued certificates
        </h2>
        <input
          type="search"
          className="input input-sm w-64 max-w-full"
          placeholder="Name or serial number"
          aria-label="Search issued certificates"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
      </div>
      {issued.isPending && <Loading what="certificates" />}
      {issued.error && <ProblemBox error={issued.error} />}
      {issued.data && list.length === 0 && <p className="muted">{typed ? "None matches." : "It has issued none yet."}</p>}
      {list.length > 0 && (
        <Table
          label="Table of issued certificates"
          rows={list}
          id={(c) => c.serial}
          columns={[
            { head: "For", className: "sm:min-w-44", cell: (c) => <span className="name">{c.names.join(" ") || c.subject}</span> },
            {
              head: "State",
              sort: (c) => c.state,
              cell: (c) => (
                <>
                  <Mark state={marks[c.state]} word={c.state} />
                  {c.reason && <span className="muted block text-sm">{c.reason.replaceAll("_", " ")}</span>}
                </>
              ),
            },
            { head: "Ends", sort: (c) => new Date(c.not_after).getTime(), cell: (c) => <When at={c.not_after} /> },
            {
              head: "Issued",
              sort: (c) => -new Date(c.created_at).getTime(),
              cell: (c) => (
                <>
                  <When at={c.created_at} />
                  <span className="name muted block text-sm">{c.created_by}</span>
                </>
              ),
            },
            {
              head: "In",
              cell: (c) =>
                c.place && (
                  <Link className="link link-hover name text-sm" to={`/drawers/${c.place}`}>
                    {c.place.split("/")[1]}
                  </Link>
                ),
            },
            {
              head: "Serial number",
              cell: (c) => (
                <span className="inline-flex items-center gap-1 whitespace-nowrap">
                  <span className="name text-sm" title={c.serial}>
                    {c.serial.slice(0, 12)}…
                  </span>
                  <Copy text={c.serial} what="the serial number" />
                </span>
              ),
            },
            revokes && {
              head: "Revoke",
              hidden: true,
              cell: (c) =>
                c.state === "good" && (
                  <button type="button" className="btn btn-ghost btn-sm" onClick={() => setRevoking(c)}>
                    Revoke …
                  </button>
                ),
            },
          ]}
        />
      )}
      {issued.data?.next && <p className="muted mt-2">These are the newest 200. Search for others.</p>}
      {revoking && <RevokeDialog drawer={drawer} authority={authority} one={revoking} onClose={() => setRevoking(undefined)} />}
    </section>
  );
}

type RevokeDialogProps = { drawer: string; authority: string; one: One; onClose: () => void };

// RevokeDialog says what revoking does before it is done, for good.
function RevokeDialog({ drawer, authority, one, onClose }: RevokeDialogProps) {
  const revoke = useRevoke(drawer, authority);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const reason = String(new FormData(event.currentTarget).get("reason")) as Schemas["RevocationReason"];
    revoke.mutate({ serial: one.serial, reason }, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Revoke the certificate of ${one.names.join(" ") || one.subject}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <p>
          From now on the authority says that it is not to be trusted, for good. Whoever looks at the revoked list or asks by OCSP refuses
          it; whoever keeps an older answer does so within a day.
        </p>
        {one.place && (
          <p>
            Applications go on getting it from <span className="name">{one.place}</span> until it is renewed there.
          </p>
        )}
        <Choice label="Why" name="reason" options={reasons} />
        {revoke.error && <ProblemBox error={revoke.error} />}
        <DialogButtons onClose={onClose} action="Revoke for good" busy={revoke.isPending} />
      </form>
    </Dialog>
  );
}
