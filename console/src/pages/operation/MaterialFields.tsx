import type { ReactNode } from "react";
import { Field, Tick } from "../../parts/Field";
import { base64 } from "../item/shapes";

// MaterialFields ask for the file of a master key, and whether the chest keeps it.
export function MaterialFields({ hint, memory }: { hint: ReactNode; memory?: boolean }) {
  return (
    <>
      <Field label="File with the key" name="material" type="file" required className="file-input" hint={hint} />
      <Tick name="in_memory" defaultChecked={memory}>
        Keep it in memory only: it is given again after each unlock
      </Tick>
    </>
  );
}

// materialOf reads them from the form that they are in.
export async function materialOf(form: HTMLFormElement): Promise<{ material: string; in_memory: boolean }> {
  const fields = new FormData(form);
  const file = fields.get("material");
  const bytes = file instanceof File ? new Uint8Array(await file.arrayBuffer()) : new Uint8Array();
  return { material: base64(bytes), in_memory: fields.has("in_memory") };
}
