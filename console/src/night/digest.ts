/** The SHA-256 of a file of any size, in pieces. */
import { sha256 } from "@noble/hashes/sha2.js";

const PIECE = 4 << 20;
/** As much as a browser holds in memory without harm; its own hash is the faster one, and takes everything at once. */
const AT_ONCE = 64 << 20;

const written = (hash: Uint8Array) => [...hash].map((b) => b.toString(16).padStart(2, "0")).join("");

/** `own`: the browser's hash; only pages that came over a safe connection have it. */
export async function digestOf(file: Blob, own: SubtleCrypto | undefined, piece = PIECE, atOnce = AT_ONCE): Promise<string> {
  if (own && file.size <= atOnce) return written(new Uint8Array(await own.digest("SHA-256", await file.arrayBuffer())));
  const hash = sha256.create();
  for (let from = 0; from < file.size; from += piece) hash.update(new Uint8Array(await file.slice(from, from + piece).arrayBuffer()));
  return written(hash.digest());
}
