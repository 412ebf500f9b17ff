/** Going over the contact sheet by keys: by what lies where, row by row. */

export type Box = { left: number; right: number; top: number };

/** Which of these pictures, that lie in rows from the top, a key leads to from one of them. */
export function next(boxes: readonly Box[], from: number, key: string): number | undefined {
  const own = boxes[from];
  if (!own) return undefined;
  if (key === "ArrowLeft") return from > 0 ? from - 1 : undefined;
  if (key === "ArrowRight") return from + 1 < boxes.length ? from + 1 : undefined;
  if (key !== "ArrowUp" && key !== "ArrowDown") return undefined;
  const up = key === "ArrowUp";
  const beyond = boxes.filter((b) => (up ? b.top < own.top - 1 : b.top > own.top + 1)).map((b) => b.top);
  if (beyond.length === 0) return undefined;
  const row = up ? Math.max(...beyond) : Math.min(...beyond);
  const middle = (b: Box) => (b.left + b.right) / 2;
  const away = (b: Box) => Math.abs(middle(b) - middle(own));
  let best: number | undefined;
  boxes.forEach((b, n) => {
    if (Math.abs(b.top - row) <= 1 && (best === undefined || away(b) < away(boxes[best] as Box))) best = n;
  });
  return best;
}

/** Looks for something again and again, for two seconds, and hands it on as soon as it is there. Returns what ends the looking. */
export function whenThere(find: () => HTMLElement | null | undefined, then: (found: HTMLElement) => void): () => void {
  let left = 20;
  let timer: ReturnType<typeof setTimeout> | undefined;
  const look = () => {
    const found = find();
    if (found) then(found);
    else if (left-- > 0) timer = setTimeout(look, 100);
  };
  look();
  return () => clearTimeout(timer);
}
