import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Code } from "../../parts/Code";
import { Fact } from "./Facts";
import { IssueDialog } from "./IssueDialog";
import { ProfileDialog } from "./ProfileDialog";

type ProfilePanelProps = {
  drawer: string;
  item: Schemas["Item"];
  profile: Schemas["CertificateProfile"];
  issues: boolean;
  writes: boolean;
};

// ProfilePanel says what certificates a profile gives, and has one issued for whoever may have it.
export function ProfilePanel({ drawer, item, profile: p, issues, writes }: ProfilePanelProps) {
  const [open, setOpen] = useState<"issue" | "change">();
  const close = () => setOpen(undefined);
  const target = `${drawer}/${item.name}`;
  const list = (items?: string[]) => items?.join(", ");
  return (
    <section className="panel grid gap-4" aria-label="Profile">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <h2 className="text-xl font-semibold">What may be in its certificates</h2>
        <div className="flex flex-wrap gap-2">
          {writes && !p.ssh && (
            <button type="button" className="btn btn-outline btn-sm" onClick={() => setOpen("change")}>
              Change …
            </button>
          )}
          {issues && !p.ssh && (
            <button type="button" className="btn btn-primary btn-sm" onClick={() => setOpen("issue")}>
              Issue a certificate …
            </button>
          )}
        </div>
      </div>
      <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[auto_1fr]">
        <Fact name="Signed by">
          <Link className="link name" to={`/drawers/${drawer}/${p.authority}`}>
            {p.authority}
          </Link>
        </Fact>
        <Fact name="For SSH, of a">{p.ssh}</Fact>
        <Fact name="Principals">{list(p.principals)}</Fact>
        <Fact name="Permits">{list(p.extensions)}</Fact>
        <Fact name="Command">{p.command}</Fact>
        <Fact name="Host names">{p.names && `${list(p.names)}${p.wildcards ? ", and all names below one" : ""}`}</Fact>
        <Fact name="Networks">{list(p.networks)}</Fact>
        <Fact name="URIs">{list(p.uris)}</Fact>
        <Fact name="Mail addresses">{list(p.mail)}</Fact>
        <Fact name="Common names">{list(p.subjects)}</Fact>
        <Fact name="For use as">{list(p.usages)}</Fact>
        <Fact name="Types of keys">{p.ssh ? undefined : (list(p.key_types) ?? "any that is good")}</Fact>
        <Fact name="Longest life">{p.longest}</Fact>
      </dl>
      {!issues && (
        <p className="muted">
          Whoever has the role <b>subscriber</b> on <span className="name">{target}</span> may have such a certificate.
        </p>
      )}
      <Code text={p.ssh ? `tansu cert ssh ${target} --names PRINCIPAL` : samples(target, drawer)} what="the commands" />
      {open === "issue" && <IssueDialog drawer={drawer} profile={item.name} keyTypes={p.key_types} longest={p.longest} onClose={close} />}
      {open === "change" && <ProfileDialog drawer={drawer} authority={p.authority} item={item} profile={p} onClose={close} />}
    </section>
  );
}

const samples = (target: string, drawer: string) =>
  `tansu cert issue ${target} --names NAME --into ${drawer}/ITEM\ntansu cert issue ${target} --request FILE.csr --out FILE.pem`;
