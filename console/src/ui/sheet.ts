/** How pictures lie on the sheet: rows of even height, filled from the left, and which of them are near the screen. */

/** Between pictures, and between rows. */
export const GAP = 6;

/** How much wider than high a picture is shown: nothing is cut to a strip. */
export const shown = (width?: number | null, height?: number | null) => (width && height ? Math.min(2.4, Math.max(0.55, width / height)) : 4 / 3);

/** A row: the first picture in it, and the first after it. */
export type Row = readonly [from: number, to: number];

/** Puts pictures into rows of this width; `ratios`: how wide each is when it is one high. A row takes what fits, and at least one. */
export function rows(ratios: readonly number[], width: number, height: number): Row[] {
  const all: Row[] = [];
  if (width <= 0) return all;
  let from = 0;
  let filled = 0;
  ratios.forEach((ratio, n) => {
    const wide = ratio * height;
    if (n > from && filled + GAP + wide > width) {
      all.push([from, n]);
      from = n;
      filled = wide;
    } else {
      filled += (n > from ? GAP : 0) + wide;
    }
  });
  if (ratios.length > from) all.push([from, ratios.length]);
  return all;
}

/** Where a picture lies in its row. */
export type Place = { left: number; width: number };

/** No picture is drawn out further than this to fill its row. */
const STRETCH = 1.6;

/** Where the pictures of a row lie: they fill it, unless it is the last one. */
export function places(ratios: readonly number[], [from, to]: Row, width: number, height: number): Place[] {
  const own = ratios.slice(from, to);
  const wide = own.reduce((sum, ratio) => sum + ratio * height, 0);
  const room = width - (own.length - 1) * GAP;
  const stretch = to === ratios.length ? Math.min(1, room / wide) : Math.min(STRETCH, room / wide);
  let left = 0;
  return own.map((ratio) => {
    const place = { left, width: ratio * height * stretch };
    left += place.width + GAP;
    return place;
  });
}

/** The height of so many rows. */
export const heightOf = (count: number, height: number) => Math.max(0, count * (height + GAP) - GAP);

/** Of so many rows that begin at `top` on the screen, those that are on it or near: from the first to the one after the last. */
export function near(count: number, height: number, top: number, screen: number): Row {
  const margin = screen;
  const step = height + GAP;
  const clamp = (n: number) => Math.min(count, Math.max(0, n));
  return [clamp(Math.floor((-margin - top) / step)), clamp(Math.ceil((screen + margin - top) / step))];
}
