import { useState } from "react";
import { useAuthority } from "../../api/certificates";
import type { Schemas } from "../../api/client";
import { Copy } from "../../parts/Copy";
import { save } from "../../parts/download";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { Fact, Facts } from "./Facts";
import { ProfileDialog } from "./ProfileDialog";
import { Profiles } from "./Profiles";
import { RenewAuthorityDialog } from "./RenewAuthorityDialog";

type AuthorityPanelProps = { drawer: string; item: Schemas["Item"]; certificate: Schemas["Certificate"]; rules: boolean; writes: boolean };

// AuthorityPanel shows what an authority is and says to others, and the profiles by which it signs.
export function AuthorityPanel({ drawer, item, certificate, rules, writes }: AuthorityPanelProps) {
  const authority = useAuthority(drawer, item.name);
  const [open, setOpen] = useState<"profile" | "renew">();
  const close = () => setOpen(undefined);
  const a = authority.data;
  return (
    <>
      <section className="panel grid gap-4" aria-label="Authority">
        <div className="flex flex-wrap items-start justify-between gap-3">
          <div>
            <h2 className="text-xl font-semibold">An authority: it signs certificates</h2>
            <p>
              <Mark state="usable" word="Its key never leaves the chest" />
            </p>
          </div>
          <div className="flex flex-wrap gap-2">
            {a && (
              <button
                type="button"
                className="btn btn-outline btn-sm"
                onClick={() => save(`${item.name}.pem`, topOf(a.chain), "text/plain")}
              >
                Save what others trust
              </button>
            )}
            {writes && !item.retired_at && (
              <button type="button" className="btn btn-outline btn-sm" onClick={() => setOpen("renew")}>
                Renew …
              </button>
            )}
          </div>
        </div>
        <Facts of={certificate}>
          {a && (
            <>
              <Fact name="Certificates">
                <span className="flex flex-wrap gap-x-4">
                  <Mark state="usable" word={`${a.good} good`} />
                  {a.ending > 0 && <Mark state="due" word={`${a.ending} end within 30 days`} />}
                  {a.revoked > 0 && <Mark state="refused" word={`${a.revoked} revoked`} />}
                  <span className="muted">{a.ended} ended</span>
                </span>
              </Fact>
              <Fact name="Revoked list">
                {item.served_at && <Address text={`${item.served_at}${a.public}/crl`} what="the revoked list" />}
              </Fact>
              <Fact name="OCSP">{item.served_at && <Address text={`${item.served_at}${a.public}/ocsp`} what="the address of OCSP" />}</Fact>
            </>
          )}
        </Facts>
        {authority.isPending && <Loading what={item.name} />}
        {authority.error && <ProblemBox error={authority.error} />}
      </section>
      {a && (
        <Profiles
          title="Profiles: what it certifies"
          list={a.profiles}
          none="No profile that you may list: nobody gets a certificate of it yet."
          onNew={rules ? () => setOpen("profile") : undefined}
        />
      )}
      {open === "profile" && <ProfileDialog drawer={drawer} authority={item.name} onClose={close} />}
      {open === "renew" && <RenewAuthorityDialog drawer={drawer} item={item.name} own={certificate.self_signed} onClose={close} />}
    </>
  );
}

function Address({ text, what }: { text: string; what: string }) {
  return (
    <span className="inline-flex flex-wrap items-center gap-2">
      <code className="name text-sm break-all">{text}</code> <Copy text={text} what={what} />
    </span>
  );
}

// topOf is the last certificate of a chain, which is the one to trust.
const topOf = (chain: string) => chain.slice(chain.lastIndexOf("-----BEGIN CERTIFICATE-----"));
