import { useState } from "react";
import { useRenewCertificate } from "../../api/certificates";
import type { Schemas } from "../../api/client";
import { Code } from "../../parts/Code";
import { Confirm } from "../../parts/Confirm";
import { save } from "../../parts/download";
import { Mark } from "../../parts/Mark";
import { AnswerDialog } from "./AnswerDialog";
import { Facts } from "./Facts";

type CertificatePanelProps = {
  drawer: string;
  item: Schemas["Item"];
  certificate: Schemas["Certificate"];
  waiting?: Schemas["Version"];
  writes: boolean;
};

// CertificatePanel says what a certificate says, renews one that was issued here, and takes the answer of one that was requested.
export function CertificatePanel({ drawer, item, certificate, waiting, writes }: CertificatePanelProps) {
  const [open, setOpen] = useState<"renew" | "answer">();
  const close = () => setOpen(undefined);
  const renew = useRenewCertificate(drawer, item.name);
  const target = `${drawer}/${item.name}`;
  const request = waiting?.certificate?.request;
  return (
    <section className="panel grid gap-4" aria-label="Certificate">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <h2 className="text-xl font-semibold">{certificate.serial ? "The certificate that is served" : "A key without its certificate"}</h2>
        {writes && !item.retired_at && certificate.renewable && (
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setOpen("renew")}>
            Renew …
          </button>
        )}
      </div>
      {certificate.revoked && (
        <p>
          <Mark state="refused" word={`Revoked: ${certificate.revoked.replaceAll("_", " ")}`} />. Applications still get it: renew it.
        </p>
      )}
      {certificate.serial && <Facts of={certificate} />}
      {request && (
        <div className="flex flex-wrap items-center gap-3">
          <p>
            <Mark state="waiting" word={`@${waiting.version} waits`} /> for the certificate of {waiting.certificate?.names.join(", ")}.
          </p>
          <button type="button" className="btn btn-outline btn-sm" onClick={() => save(`${item.name}.csr`, request, "application/pkcs10")}>
            Save the request
          </button>
          {writes && (
            <button type="button" className="btn btn-outline btn-sm" onClick={() => setOpen("answer")}>
              Put the answer in …
            </button>
          )}
        </div>
      )}
      {certificate.serial && <Code text={samples(target)} what="the commands" />}
      {open === "renew" && (
        <Confirm
          title={`Renew ${item.name}`}
          action="Renew"
          busy={renew.isPending}
          error={renew.error}
          onYes={() => renew.mutate({}, { onSuccess: close })}
          onClose={close}
        >
          <p>
            A new key is made in the chest and certified for the same names, as a new version. Who reads the item gets that from now on; the
            certificate that was served stays valid until its end.
          </p>
        </Confirm>
      )}
      {open === "answer" && <AnswerDialog drawer={drawer} item={item.name} onClose={close} />}
    </section>
  );
}

const samples = (target: string) =>
  `tansu cert keep ${target} --chain CHAIN.pem --key KEY.pem -- nginx -s reload\ntansu cert save ${target} --pkcs12 FILE.p12`;
