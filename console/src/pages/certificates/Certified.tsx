import type { Schemas } from "../../api/client";
import type { Action } from "../../api/may";
import { AuthorityPanel } from "./AuthorityPanel";
import { CertificatePanel } from "./CertificatePanel";
import { Issued } from "./Issued";
import { ProfilePanel } from "./ProfilePanel";

type CertifiedProps = { drawer: string; item: Schemas["Item"]; versions: Schemas["Version"][]; may: (...any: Action[]) => boolean };

// Certified is what an item's page has besides for a certificate, an authority and a profile.
export function Certified({ drawer, item, versions, may }: CertifiedProps) {
  const { certificate } = item;
  const writes = may("write_version");
  if (!certificate) return null;
  if (certificate.profile)
    return (
      <ProfilePanel
        drawer={drawer}
        item={item}
        profile={certificate.profile}
        issues={may("issue")}
        writes={writes && may("change_rules")}
      />
    );
  if (item.kind === "authority")
    return (
      <>
        <AuthorityPanel drawer={drawer} item={item} certificate={certificate} rules={writes && may("change_rules")} writes={writes} />
        <Issued drawer={drawer} authority={item.name} revokes={may("change_item")} />
      </>
    );
  const waiting = versions.find((v) => v.certificate?.request && v.state !== "shredded");
  const answered = versions.some((v) => waiting && v.certificate?.serial && v.version > waiting.version);
  return (
    <CertificatePanel drawer={drawer} item={item} certificate={certificate} waiting={answered ? undefined : waiting} writes={writes} />
  );
}
