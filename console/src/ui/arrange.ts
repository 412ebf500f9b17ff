/** Pictures and words in an order that somebody gives them. */
import type { OriginalCard, Schemas } from "../api/client";

/** A picture, or words; what one is known by while it is moved about. */
export type Piece = { key: string; picture?: OriginalCard; words?: string };

/** With one of them at another place, counted without it; beyond an end: at that end. */
export function moved<P extends { key: string }>(pieces: readonly P[], key: string, to: number): P[] {
  const from = pieces.findIndex((p) => p.key === key);
  const piece = pieces[from];
  if (!piece) return [...pieces];
  const rest = pieces.filter((_, n) => n !== from);
  const at = Math.max(0, Math.min(rest.length, to));
  return [...rest.slice(0, at), piece, ...rest.slice(at)];
}

/** With one of them where another one is: that one makes room to the side from which it came. */
export function putAt<P extends { key: string }>(pieces: readonly P[], key: string, other: string): P[] {
  const to = pieces.findIndex((p) => p.key === other);
  return to < 0 ? [...pieces] : moved(pieces, key, to);
}

let made = 0;

/** With room for words at a place. */
export function withWords(pieces: readonly Piece[], at: number): Piece[] {
  return [...pieces.slice(0, at), { key: `new words ${made++}`, words: "" }, ...pieces.slice(at)];
}

export const without = <P extends { key: string }>(pieces: readonly P[], key: string): P[] => pieces.filter((p) => p.key !== key);

/** As the server is told. */
export const sent = (pieces: readonly Piece[]): NonNullable<Schemas["Arrange"]["steps"]> => pieces.map((p) => (p.picture ? { picture: p.picture.id } : { words: p.words ?? "" }));
