import { useState } from "react";
import { useAuthority } from "../../api/certificates";
import type { Schemas } from "../../api/client";
import { ProblemBox } from "../../parts/ProblemBox";
import { Issued } from "./Issued";
import { KeyProfileDialog } from "./KeyProfileDialog";
import { Profiles } from "./Profiles";

// SignsFor is what a key signs for the subscribers of profiles: tokens, and certificates of SSH, which it lists.
export function SignsFor({ drawer, item, rules }: { drawer: string; item: Schemas["Item"]; rules: boolean }) {
  const authority = useAuthority(drawer, item.name);
  const [open, setOpen] = useState(false);
  const a = authority.data;
  if (authority.error) return <ProblemBox error={authority.error} />;
  if (!a || (!rules && a.profiles.length === 0)) return null;
  return (
    <>
      <Profiles
        title="Profiles: what it signs for others"
        list={a.profiles}
        none="None that you may list. A profile has it sign tokens, or certificates of SSH, for whoever may have those and nothing else."
        onNew={rules ? () => setOpen(true) : undefined}
      />
      {(a.profiles.some((p) => p.profile.ssh) || a.good + a.ended > 0) && <Issued drawer={drawer} authority={item.name} revokes={false} />}
      {open && <KeyProfileDialog drawer={drawer} authority={item.name} onClose={() => setOpen(false)} />}
    </>
  );
}
