// View is one way in which bytes can be written; its name says the encoding.
export type View = { name: string; text: string };

export const bytesOf = (encoded: string): Uint8Array => Uint8Array.from(atob(encoded), (c) => c.charCodeAt(0));

// viewsOf lists the ways for some bytes, the plainest first.
export function viewsOf(bytes: Uint8Array): View[] {
  const text = textOf(bytes);
  const views: View[] = text === undefined ? [] : [{ name: "text", text }];
  const decoded = text === undefined ? undefined : decodedFrom(text.trim());
  if (decoded) views.push(decoded);
  views.push(
    { name: "base64", text: base64(bytes) },
    { name: "hexadecimal", text: Array.from(bytes, (b) => b.toString(16).padStart(2, "0")).join(" ") },
  );
  return views;
}

function textOf(bytes: Uint8Array): string | undefined {
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    return undefined;
  }
}

const base64 = (bytes: Uint8Array) => btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));

// decodedFrom is what a text stands for, when it is itself an encoding of some text.
function decodedFrom(text: string): View | undefined {
  if (/^\s*[{[]/.test(text)) {
    try {
      return { name: "JSON, with lines", text: JSON.stringify(JSON.parse(text), null, 2) };
    } catch {
      return undefined;
    }
  }
  if (text.length < 16 || text.length % 4 === 1 || !/^[A-Za-z0-9+/_-]+={0,2}$/.test(text)) return undefined;
  try {
    const inner = textOf(bytesOf(text.replaceAll("-", "+").replaceAll("_", "/")));
    return inner !== undefined && /^[\x20-\x7e\s]+$/.test(inner) ? { name: "decoded from base64", text: inner } : undefined;
  } catch {
    return undefined;
  }
}
