import type { Schemas } from "../../api/client";

type Shape = Schemas["Item"]["shape"];
export type FieldForm = { name: string; label: string; plain?: boolean; required?: boolean; many?: boolean; file?: boolean; hint?: string };

// shapes are what the forms ask for; the chest checks it all again.
export const shapes: Record<Shape, { text: string; fields: FieldForm[] }> = {
  text: { text: "one value", fields: [] },
  login: {
    text: "login: user and password",
    fields: [
      { name: "user", label: "User", plain: true, required: true },
      { name: "password", label: "Password", required: true },
    ],
  },
  connection: {
    text: "connection: given out as a URL, or field by field",
    fields: [
      { name: "engine", label: "Engine", plain: true, required: true, hint: "Such as postgresql or amqps." },
      { name: "host", label: "Host", plain: true, required: true },
      { name: "port", label: "Port", plain: true },
      { name: "database", label: "Database", plain: true },
      { name: "user", label: "User", plain: true },
      { name: "password", label: "Password" },
      { name: "options", label: "Options", plain: true, hint: "Such as sslmode=verify-full." },
    ],
  },
  ssh_key: {
    text: "key pair for SSH",
    fields: [
      { name: "private", label: "Private key", required: true, many: true, hint: "The public key and the fingerprint follow from it." },
    ],
  },
  fields: { text: "fields of your own: given out as JSON, or field by field", fields: [] },
  file: {
    text: "a file, byte for byte",
    fields: [{ name: "content", label: "File", required: true, file: true, hint: "Up to 64 KiB. Its name is kept with it." }],
  },
  key: { text: "a key that is used in the chest", fields: [] },
  certificate: {
    text: "a certificate with its key",
    fields: [
      { name: "certificate", label: "Certificate", plain: true, required: true, many: true, hint: "With those that it leads to, in PEM." },
      { name: "private", label: "Private key", required: true, many: true, hint: "In PEM, without a passphrase." },
    ],
  },
  authority: { text: "an authority that signs certificates", fields: [] },
  profile: { text: "what certificates an authority gives", fields: [] },
};

// recipes are how a value comes about. Those without a colon in front are the chest's own; "lines" and "file" are typed or taken here.
export const recipes = [
  { value: "", text: "type it, in one line" },
  { value: "lines", text: "type several lines" },
  { value: "file", text: "take it from a file, byte for byte" },
  { value: "rule", text: "generate it by the drawer's rules" },
  { value: "characters:24", text: "generate 24 letters and digits" },
  { value: "characters:24:lower+upper+digits+symbols", text: "generate 24 with symbols too" },
  { value: "bytes:32", text: "generate 32 random bytes" },
  { value: "words:5", text: "generate 5 words that can be said" },
  { value: "uuid", text: "generate a UUID" },
];

export const typed = (recipe: string) => recipe === "" || recipe === "lines" || recipe === "file";

// formOf is what to ask for a shape; of an item that has other fields, those.
export function formOf(shape: Shape, known: Schemas["FieldInfo"][]): FieldForm[] {
  const form = shapes[shape].fields;
  return form.length > 0 || known.length === 0 ? form : known.map((f) => ({ name: f.name, label: f.name, plain: f.plain }));
}

// versionOf reads a form: a value, or the fields that were filled in or are to be generated.
export async function versionOf(form: FormData, fields: FieldForm[]): Promise<Schemas["NewVersion"]> {
  if (fields.length === 0) {
    const recipe = String(form.get("recipe:value") ?? "");
    return typed(recipe) ? { value: await encoded(form.get("value")), encoding: "base64" } : { generate: recipe };
  }
  const given: Schemas["NewField"][] = [];
  for (const f of fields) {
    const recipe = String(form.get(`recipe:${f.name}`) ?? "");
    const value = form.get(`field:${f.name}`);
    const filled = value instanceof File ? value.size > 0 : Boolean(value);
    if (!typed(recipe)) given.push({ name: f.name, generate: recipe });
    else if (filled) given.push({ name: f.name, value: await encoded(value), ...(f.plain && { plain: true }) });
    if (f.file && filled && value instanceof File) given.push({ name: "file_name", value: await encoded(value.name), plain: true });
  }
  return { fields: given };
}

// ownFields reads fields that have names of their own.
export async function ownFields(form: FormData, rows: number[]): Promise<Schemas["NewVersion"]> {
  const fields: Schemas["NewField"][] = [];
  for (const row of rows) {
    const name = String(form.get(`own:${row}:name`) ?? "").trim();
    if (name)
      fields.push({ name, value: await encoded(form.get(`own:${row}:value`)), ...(form.get(`own:${row}:plain`) && { plain: true }) });
  }
  return { fields };
}

// encoded writes what a form has, a text or a file, as base64.
export async function encoded(value: FormDataEntryValue | null): Promise<string> {
  const bytes = value instanceof File ? new Uint8Array(await value.arrayBuffer()) : new TextEncoder().encode(value ?? "");
  return base64(bytes);
}

export function base64(bytes: Uint8Array): string {
  let text = "";
  for (let at = 0; at < bytes.length; at += 0x8000) text += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
  return btoa(text);
}
