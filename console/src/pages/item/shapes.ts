import type { Schemas } from "../../api/client";

type Shape = Schemas["Item"]["shape"];
export type FieldForm = { name: string; label: string; plain?: boolean; required?: boolean; many?: boolean; hint?: string };

// shapes are what the forms ask for; the chest checks it all again.
export const shapes: Record<Shape, { text: string; fields: FieldForm[] }> = {
  text: { text: "one value", fields: [] },
  login: { text: "login: user and password", fields: [{ name: "user", label: "User", plain: true, required: true }, { name: "password", label: "Password", required: true }] },
  connection: {
    text: "connection: given out as a URL, or field by field",
    fields: [
      { name: "engine", label: "Engine", plain: true, required: true, hint: "Such as postgresql or amqps." }, { name: "host", label: "Host", plain: true, required: true },
      { name: "port", label: "Port", plain: true }, { name: "database", label: "Database", plain: true }, { name: "user", label: "User", plain: true },
      { name: "password", label: "Password" }, { name: "options", label: "Options", plain: true, hint: "Such as sslmode=verify-full." },
    ],
  },
  ssh_key: { text: "key pair for SSH", fields: [{ name: "private", label: "Private key", required: true, many: true, hint: "The public key and the fingerprint follow from it." }] },
  fields: { text: "fields of your own (command line)", fields: [] },
  file: { text: "a file (command line)", fields: [] },
};

export const recipes = [
  { value: "", text: "type it" }, { value: "rule", text: "make it up, by the drawer's rules" }, { value: "characters:24", text: "make it up: 24 letters and digits" }, { value: "characters:24:lower+upper+digits+symbols", text: "make it up: 24 with symbols too" },
  { value: "bytes:32", text: "make it up: 32 random bytes" }, { value: "words:5", text: "make it up: 5 words that can be said" }, { value: "uuid", text: "make it up: a UUID" },
];

// formOf is what to ask for a shape; of an item that has other fields, those.
export function formOf(shape: Shape, known: Schemas["FieldInfo"][]): FieldForm[] {
  const form = shapes[shape].fields;
  return form.length > 0 || known.length === 0 ? form : known.map((f) => ({ name: f.name, label: f.name, plain: f.plain }));
}

// versionOf reads a form: a value, or the fields that were filled in or are to be made up.
export function versionOf(form: FormData, fields: FieldForm[]): Schemas["NewVersion"] {
  const text = (name: string) => String(form.get(name) ?? "");
  if (fields.length === 0) return text("recipe:value") ? { generate: text("recipe:value") } : { value: base64(text("value")), encoding: "base64" };
  const given: Schemas["NewField"][] = [];
  for (const f of fields) {
    const recipe = text(`recipe:${f.name}`);
    const value = text(`field:${f.name}`);
    if (recipe) given.push({ name: f.name, generate: recipe });
    else if (value) given.push({ name: f.name, value: base64(value), ...(f.plain && { plain: true }) });
  }
  return { fields: given };
}

function base64(text: string): string {
  return btoa(String.fromCharCode(...new TextEncoder().encode(text)));
}
