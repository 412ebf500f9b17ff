/** How pictures lie on the sheet: rows of even height, filled from the left, and which of them are near the screen. */

/** Between pictures, and between rows. */
export const GAP = 6;

/** How much wider than high a picture is shown: nothing is cut to a strip. */
export const shown = (width?: number | null, height?: number | null) => (width && height ? Math.min(2.4, Math.max(0.55, width / height)) : 4 / 3);

/** How wide the pictures of a month are shown for their height, from what the server tells of the month: a byte for each. */
export function ratiosOf(proportions: string): number[] {
  return Array.from(atob(proportions), (c) => {
    const byte = c.charCodeAt(0);
    return byte === 0 ? shown() : shown(2 ** ((byte - 128) / 32), 1);
  });
}

/** A row: the first picture in it, and the first after it. */
export type Row = readonly [from: number, to: number];

/** A row takes a picture that does not quite fit: all of them lose so much of their sides at most. A gap would be uglier. */
export const SQUEEZE = 1.18;

/** Puts pictures into rows of this width; `ratios`: how wide each is when it is one high. A row takes what fits, and at least one. */
export function rows(ratios: readonly number[], width: number, height: number): Row[] {
  const all: Row[] = [];
  if (width <= 0) return all;
  let from = 0;
  let filled = 0;
  ratios.forEach((ratio, n) => {
    const wide = ratio * height;
    if (n > from && filled + GAP + wide > width * SQUEEZE) {
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

/** Browsers end a page after some 17 (or 33) million pixels, and what would lie below cannot be come to. */
const HIGHEST = 10_000_000;

/** The share of its height that a month takes while nobody is near it, where there are so many pictures, so many in a row: months that are near have their own
 *  height, whatever that is. */
export const pressed = (pictures: number, inRow: number, height: number) => Math.min(1, HIGHEST / heightOf(Math.ceil(pictures / inRow), height));

/** How far the page must be scrolled on, so that one sees what one saw, when something that is `before` high and begins at `top` on the screen is `now` high: what lies above
 *  the screen pushes everything on, and in what reaches across its upper edge one stays at the same share. */
export const pushed = (top: number, before: number, now: number) => (before > 0 ? Math.min(before, Math.max(0, -top)) * (now / before - 1) : 0);

/** Of so many rows that begin at `top` on the screen, those that are on it or near: from the first to the one after the last. */
export function near(count: number, height: number, top: number, screen: number, margin = screen): Row {
  const step = height + GAP;
  const clamp = (n: number) => Math.min(count, Math.max(0, n));
  return [clamp(Math.floor((-margin - top) / step)), clamp(Math.ceil((screen + margin - top) / step))];
}

/** Of rows that are drawn, those that are to be drawn now; the same, as long as they reach well beyond the screen: rows come many at a time, and not with each of them that is
 *  scrolled by. */
export function drawn(before: Row, count: number, height: number, top: number, screen: number): Row {
  const [from, to] = near(count, height, top, screen, screen * 0.4);
  return from >= before[0] && to <= before[1] && to > from ? before : near(count, height, top, screen);
}

/** The row that a picture is in; the last one, if it is in none. */
export function rowOf(all: readonly Row[], picture: number): number {
  const row = all.findIndex(([, to]) => picture < to);
  return row < 0 ? Math.max(0, all.length - 1) : row;
}

/** The portions that these pictures are in. */
export function portionsOf(from: number, to: number, portion: number): number[] {
  const first = Math.floor(from / portion);
  return Array.from({ length: to > from ? Math.ceil(to / portion) - first : 0 }, (_, n) => first + n);
}

/** A picture's place in the library, as an address says it: its month, and how many of the month are newer. */
export type Spot = { month: string; picture: number };

export const told = ({ month, picture }: Spot) => (picture > 0 ? `${month}.${picture}` : month);

/** What an address says, if that is a place. */
export function spotOf(text: string | null): Spot | undefined {
  const found = /^(\d{4}-\d{2})(?:\.(\d{1,6}))?$/.exec(text ?? "");
  return found?.[1] ? { month: found[1], picture: Number(found[2] ?? 0) } : undefined;
}

/** Of months that lie above each other, each as thick as it has pictures, the one at this share of the whole. */
export function monthAt<M extends { count: number }>(months: readonly M[], share: number): M | undefined {
  const total = months.reduce((sum, m) => sum + m.count, 0);
  let above = 0;
  for (const m of months) {
    above += m.count;
    if (share * total < above) return m;
  }
  return months[months.length - 1];
}

/** Among which pictures one is: those of one's own library or of an album, and of them those that were looked for; `find` is empty where all are meant. */
export type Among = { find: string; album?: string | undefined };

/** Where these pictures are shown. */
export const pageOf = ({ album }: Among) => (album ? `/albums/${album}` : "/library");

/** The address of that page, or of one picture there; `at`: where on it, as `told`. */
export function addressOf(among: Among, { picture, at }: { picture?: string; at?: string | undefined } = {}): string {
  const page = picture ? `${pageOf(among)}/${picture}` : pageOf(among);
  const query = new URLSearchParams();
  if (among.find) query.set("find", among.find);
  if (at) query.set("at", at);
  const said = query.toString();
  return said ? `${page}?${said}` : page;
}
