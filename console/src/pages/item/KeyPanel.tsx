import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import type { Action } from "../../api/may";
import { useKeyTypes, useKeyUsers } from "../../api/keys";
import { Code } from "../../parts/Code";
import { Copy } from "../../parts/Copy";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { DecryptFromDialog } from "./DecryptFromDialog";
import { operations } from "./keyWords";

type KeyPanelProps = {
  drawer: string;
  item: Schemas["Item"];
  current?: Schemas["Version"];
  may: (...any: Action[]) => boolean;
};

// KeyPanel says what a key is and how it is used; its public half is there to be copied.
export function KeyPanel({ drawer, item, current, may }: KeyPanelProps) {
  const [choosing, setChoosing] = useState(false);
  const facts = item.key;
  const type = useKeyTypes().data?.types.find((t) => t.type === facts?.type);
  if (!facts) return null;
  const commands = samples(`${drawer}/${item.name}`, facts);
  const chooses = may("change_item") && item.versions > 1 && facts.key_ops.includes("decrypt");
  return (
    <section className="panel grid gap-4" aria-label="Key">
      <div>
        <h2 className="text-xl font-semibold">
          A key of the type <span className="name">{facts.type}</span>
        </h2>
        {type && <p className="muted">{type.about}</p>}
      </div>
      <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[auto_1fr]">
        <dt className="muted">For</dt>
        <dd>{operations(facts.key_ops)}</dd>
        <dt className="muted">The key itself</dt>
        <dd>
          {facts.given_out ? (
            <Mark state="endless" word="is given to whoever may read the item" />
          ) : (
            <Mark state="usable" word="never leaves the chest" />
          )}
        </dd>
        {(facts.decrypt_from > 0 || chooses) && (
          <>
            <dt className="muted">Decrypts</dt>
            <dd className="flex flex-wrap items-center gap-2">
              {facts.decrypt_from > 0 ? `from version ${facts.decrypt_from} on` : "with every version"}
              {chooses && (
                <button type="button" className="btn btn-ghost btn-sm" onClick={() => setChoosing(true)}>
                  Change …<span className="sr-only"> which versions decrypt</span>
                </button>
              )}
            </dd>
          </>
        )}
        {current?.public_key && (
          <>
            <dt className="muted">Public half</dt>
            <dd className="flex flex-wrap items-center gap-2">
              as a JWK, of version {current.version} <Copy text={JSON.stringify(current.public_key)} what="the public half" />
            </dd>
          </>
        )}
      </dl>
      <Code text={commands} what="the commands" />
      {choosing && <DecryptFromDialog drawer={drawer} item={item} seesUsers={may("read_trail")} onClose={() => setChoosing(false)} />}
    </section>
  );
}

// samples are the commands that use a key; programs do the same with POST /api/keys/…/use.
function samples(target: string, { key_ops: ops }: Schemas["KeyFacts"]): string {
  const lines: string[] = [];
  if (ops.includes("sign")) lines.push(`tansu key sign ${target} FILE > FILE.sig`);
  if (ops.includes("verify")) lines.push(`tansu key verify ${target} FILE --signature FILE.sig`);
  if (ops.includes("encrypt")) lines.push(`tansu key encrypt ${target} FILE > FILE.jwe`);
  if (ops.includes("decrypt")) lines.push(`tansu key decrypt ${target} FILE.jwe --out FILE`);
  return lines.join("\n") || `tansu key show ${target}`;
}

// KeyUsers lists, when asked, who used which version for what.
export function KeyUsers({ drawer, item, current }: { drawer: string; item: string; current: number }) {
  const [asked, setAsked] = useState(false);
  const users = useKeyUsers(drawer, item, asked);
  const list = users.data?.users ?? [];
  return (
    <section aria-label="Who uses which version">
      <h2 className="mb-2 text-xl font-semibold">Who uses which version</h2>
      {!asked && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsked(true)}>
          Show who used it
        </button>
      )}
      {users.error && <ProblemBox error={users.error} />}
      {users.data && list.length === 0 && <p className="muted">Nobody has used it yet.</p>}
      {list.length > 0 && (
        <Table
          label="Table of who uses which version"
          rows={list}
          id={(u) => `${u.subject} ${u.action} ${u.version}`}
          find={(u) => `${u.subject} ${u.action} @${u.version}`}
          columns={[
            {
              head: "Who",
              className: "sm:min-w-44",
              sort: (u) => u.subject,
              cell: (u) => (
                <Link className="link link-hover name" to={`/access/${u.subject}`}>
                  {u.subject}
                </Link>
              ),
            },
            { head: "Used it to", sort: (u) => u.action, cell: (u) => u.action },
            {
              head: "Version",
              sort: (u) => u.version,
              cell: (u) => <Mark state={u.version === current ? "usable" : "due"} word={`@${u.version}`} />,
            },
            { head: "Times", sort: (u) => -u.times, cell: (u) => u.times },
            { head: "First", cell: (u) => <When at={u.first} /> },
            { head: "Last", sort: (u) => -new Date(u.last).getTime(), cell: (u) => <When at={u.last} /> },
          ]}
        />
      )}
    </section>
  );
}
