import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Code } from "../../parts/Code";
import { IssueDialog } from "./IssueDialog";
import { IssueSSHDialog } from "./IssueSSHDialog";
import { IssueTokenDialog } from "./IssueTokenDialog";
import { KeyProfileDialog } from "./KeyProfileDialog";
import { ProfileDialog } from "./ProfileDialog";
import { ProfileFacts } from "./ProfileFacts";

type ProfilePanelProps = {
  drawer: string;
  item: Schemas["Item"];
  profile: Schemas["CertificateProfile"];
  issues: boolean;
  writes: boolean;
};

// ProfilePanel says what a profile gives, and has it signed for whoever may have it.
export function ProfilePanel({ drawer, item, profile: p, issues, writes }: ProfilePanelProps) {
  const [open, setOpen] = useState<"issue" | "change">();
  const close = () => setOpen(undefined);
  const target = `${drawer}/${item.name}`;
  const changes = { drawer, authority: p.authority, item, profile: p, onClose: close };
  return (
    <section className="panel grid gap-4" aria-label="Profile">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <h2 className="text-xl font-semibold">{p.jwt ? "What its tokens may say" : "What may be in its certificates"}</h2>
        <div className="flex flex-wrap gap-2">
          {writes && (
            <button type="button" className="btn btn-outline btn-sm" onClick={() => setOpen("change")}>
              Change …
            </button>
          )}
          {issues && (
            <button type="button" className="btn btn-primary btn-sm" onClick={() => setOpen("issue")}>
              {p.jwt ? "Issue a token …" : "Issue a certificate …"}
            </button>
          )}
        </div>
      </div>
      <ProfileFacts drawer={drawer} profile={p} />
      {!issues && (
        <p className="muted">
          Whoever has the role <b>subscriber</b> on <span className="name">{target}</span> may have such a {p.jwt ? "token" : "certificate"}
          .
        </p>
      )}
      <Code text={samples(p, target, drawer)} what="the commands" />
      {open === "issue" && p.jwt && <IssueTokenDialog drawer={drawer} profile={item} gives={p} onClose={close} />}
      {open === "issue" && p.ssh && <IssueSSHDialog drawer={drawer} profile={item.name} gives={p} onClose={close} />}
      {open === "issue" && !p.jwt && !p.ssh && (
        <IssueDialog drawer={drawer} profile={item.name} keyTypes={p.key_types} longest={p.longest} onClose={close} />
      )}
      {open === "change" && (p.jwt || p.ssh ? <KeyProfileDialog {...changes} /> : <ProfileDialog {...changes} />)}
    </section>
  );
}

function samples(p: Schemas["CertificateProfile"], target: string, drawer: string): string {
  if (p.jwt) return `tansu jwt issue ${target} --audience AUDIENCE --out FILE\ntansu jwt check ${drawer} FILE`;
  if (p.ssh) return `tansu cert ssh ${target} --names PRINCIPAL`;
  return `tansu cert issue ${target} --names NAME --into ${drawer}/ITEM\ntansu cert issue ${target} --request FILE.csr --out FILE.pem`;
}
