import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useAddVersion, useCreateItem } from "../../api/queries";
import { encoded } from "../item/shapes";

// usePutProfile makes a profile of what a form says, or a new version of one.
export function usePutProfile(drawer: string, item: Schemas["Item"] | undefined, onClose: () => void) {
  const create = useCreateItem(drawer);
  const add = useAddVersion(drawer, item?.name ?? "", item?.revision ?? 0);
  const navigate = useNavigate();
  const put = async (form: FormData, said: Schemas["CertificateProfile"]) => {
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const version = { value: await encoded(JSON.stringify(said)), encoding: "base64" as const };
    if (item) add.mutate(version, { onSuccess: onClose });
    else
      create.mutate(
        { name: text("name"), shape: "profile", description: text("description"), version },
        { onSuccess: (s) => void navigate(`/drawers/${drawer}/${s.item.name}`) },
      );
  };
  return { put, error: create.error ?? add.error, busy: create.isPending || add.isPending };
}
