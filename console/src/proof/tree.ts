// The Merkle tree over the trail (RFC 9162, section 2.1), worked out in the viewer's own browser: nothing here believes what
// the chest says about it.

export type Hash = Uint8Array<ArrayBuffer>;

const sha256 = async (bytes: Uint8Array<ArrayBuffer>): Promise<Hash> => new Uint8Array(await crypto.subtle.digest("SHA-256", bytes));

// leafHash is of an entry's bytes as they were recorded.
export async function leafHash(body: Uint8Array): Promise<Hash> {
  const bytes = new Uint8Array(body.length + 1);
  bytes.set(body, 1);
  return sha256(bytes);
}

export async function nodeHash(left: Hash, right: Hash): Promise<Hash> {
  const bytes = new Uint8Array(1 + left.length + right.length);
  bytes[0] = 1;
  bytes.set(left, 1);
  bytes.set(right, 1 + left.length);
  return sha256(bytes);
}

// Edge is the right edge of a tree that grows: the whole trees that make it up, largest first.
export class Edge {
  size = 0;
  private whole: Hash[] = [];

  async add(leaf: Hash) {
    let root = leaf;
    for (let n = this.size; n % 2 === 1; n = (n - 1) / 2) root = await nodeHash(this.whole.pop() ?? root, root);
    this.whole.push(root);
    this.size++;
  }

  async root(): Promise<Hash> {
    let root = this.whole.at(-1);
    if (!root) return sha256(new Uint8Array());
    for (let i = this.whole.length - 2; i >= 0; i--) root = await nodeHash(this.whole[i] ?? root, root);
    return root;
  }
}

// rootOf is the root that a leaf and the hashes of an inclusion proof lead to (RFC 9162, section 2.1.3.2).
export async function rootOf(leaf: Hash, index: number, size: number, proof: Hash[]): Promise<Hash | undefined> {
  let [fn, sn, root] = [index, size - 1, leaf];
  for (const p of proof) {
    if (sn === 0) return undefined;
    if (fn % 2 === 1 || fn === sn) {
      root = await nodeHash(p, root);
      while (fn % 2 === 0 && fn !== 0) [fn, sn] = [fn / 2, Math.floor(sn / 2)];
    } else {
      root = await nodeHash(root, p);
    }
    [fn, sn] = [Math.floor(fn / 2), Math.floor(sn / 2)];
  }
  return sn === 0 ? root : undefined;
}

export const fromBase64 = (text: string): Hash => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
export const toBase64 = (bytes: Uint8Array) => btoa(String.fromCharCode(...bytes));

export type Point = { origin: string; size: number; root: string; at: string };

// openNote reads a checkpoint, if its signature is that of the verifier key (both in the form of signed notes).
export async function openNote(note: string, verifierKey: string): Promise<Point | undefined> {
  const key = fromBase64(verifierKey.trim().split("+").slice(2).join("+")); // base64 has a "+", too
  const cut = note.lastIndexOf("\n\n");
  const text = note.slice(0, cut + 1);
  const signature = fromBase64(
    note
      .slice(cut + 2)
      .trim()
      .split(" ")[2] ?? "",
  );
  if (key[0] !== 1 || cut < 0) return undefined;
  const publicKey = await crypto.subtle.importKey("raw", key.slice(1), "Ed25519", false, ["verify"]);
  const good = await crypto.subtle.verify("Ed25519", publicKey, signature.slice(4), new TextEncoder().encode(text));
  const [origin = "", size = "0", root = "", at = ""] = text.split("\n");
  return good ? { origin, size: Number(size), root, at: at.replace(/^at /, "") } : undefined;
}
