/** A map by Mercator's projection: where on it one is, which part of the earth is seen, and in cells of which size pictures are counted there. */

/** The middle of what is seen, in degrees, and how near: at 0 the whole earth is 256 pixels wide, at each step more twice as wide. */
export interface View {
  north: number;
  east: number;
  zoom: number;
}
export interface Size {
  width: number;
  height: number;
}
export interface Point {
  x: number;
  y: number;
}

const TILE = 256;
export const FARTHEST = 1;
export const NEAREST = 17;
/** Farther from the equator, the earth is drawn out without end. */
const EDGE = 84;

/** How wide the whole earth is, in pixels. */
export const widthOf = (zoom: number) => TILE * 2 ** zoom;

const clamp = (n: number, low: number, high: number) => Math.min(high, Math.max(low, n));
/** Degrees east, from -180 to 180. */
const turned = (east: number) => (east >= -180 && east < 180 ? east : ((((east + 180) % 360) + 360) % 360) - 180);

/** How far north something is on the map, as a share of half of the earth's width. */
const up = (north: number) => Math.asinh(Math.tan((clamp(north, -EDGE, EDGE) * Math.PI) / 180)) / Math.PI;
const northOf = (share: number) => (Math.atan(Math.sinh(share * Math.PI)) * 180) / Math.PI;

/** A view that there is. */
export const held = ({ north, east, zoom }: View): View => ({ north: clamp(north, -EDGE, EDGE), east: turned(east), zoom: clamp(zoom, FARTHEST, NEAREST) });

/** Where something is, from the middle of what is seen: the shorter way round the earth. */
export function pointOf(view: View, north: number, east: number): Point {
  const width = widthOf(view.zoom);
  return { x: (turned(east - view.east) / 360) * width, y: ((up(view.north) - up(north)) * width) / 2 };
}

/** What lies at a point from the middle. */
export function placeAt(view: View, { x, y }: Point): { north: number; east: number } {
  const width = widthOf(view.zoom);
  return { north: northOf(up(view.north) - (2 * y) / width), east: turned(view.east + (x / width) * 360) };
}

/** The map moved by so many pixels: what was at the middle is there now. */
export function moved(view: View, by: Point): View {
  return held({ ...placeAt(view, { x: -by.x, y: -by.y }), zoom: view.zoom });
}

/** Nearer by so many steps: what is at this point stays there. */
export function zoomed(view: View, steps: number, at: Point = { x: 0, y: 0 }): View {
  const zoom = clamp(view.zoom + steps, FARTHEST, NEAREST);
  const shrunk = 1 - 2 ** (view.zoom - zoom);
  return held({ ...placeAt(view, { x: at.x * shrunk, y: at.y * shrunk }), zoom });
}

/** A part of the earth, in degrees. Over the date line, its west is greater than its east. */
export interface Area {
  south: number;
  west: number;
  north: number;
  east: number;
}

/** What of the earth is seen. */
export function seen(view: View, { width, height }: Size): Area {
  const [high, low] = [placeAt(view, { x: 0, y: -height / 2 }), placeAt(view, { x: 0, y: height / 2 })];
  const half = (width / widthOf(view.zoom)) * 180;
  if (half >= 180) return { south: low.north, north: high.north, west: -180, east: 180 };
  return { south: low.north, north: high.north, west: turned(view.east - half), east: turned(view.east + half) };
}

/** Levels at which the server counts pictures. */
const LEVELS = [4, 6, 8, 10, 12, 14, 16, 18];

/** The level whose cells are at least 64 pixels wide, so that what is shown of each has room. */
export const levelOf = (zoom: number) => LEVELS.findLast((level) => level <= zoom + 2) ?? 4;

/** What is asked for: a little more than is seen, by steps, so that a map that is moved a little asks for the same. */
export function asked(area: Area, level: number): Area {
  const step = (360 / 2 ** level) * 4;
  const low = (n: number, least: number) => Math.max(least, Math.floor(n / step) * step);
  const high = (n: number, most: number) => Math.min(most, Math.ceil(n / step) * step);
  const whole = area.west === -180 && area.east === 180;
  return {
    south: low(area.south, -90),
    north: high(area.north, 90),
    west: whole ? -180 : low(area.west, -180),
    east: whole ? 180 : high(area.east, 180),
  };
}

/** As the server reads it, and as somebody may look for it. */
export const told = (a: Area) => `${degrees(a.south)}/${degrees(a.west)}..${degrees(a.north)}/${degrees(a.east)}`;
const degrees = (n: number) => String(Math.round(n * 1e4) / 1e4 || 0);

/** What `told` says. */
export function areaOf(text: string): Area | undefined {
  const found = /^(-?[\d.]+)\/(-?[\d.]+)\.\.(-?[\d.]+)\/(-?[\d.]+)$/.exec(text);
  const [south, west, north, east] = (found?.slice(1) ?? []).map(Number);
  return south === undefined || west === undefined || north === undefined || east === undefined ? undefined : { south, west, north, east };
}

/** Whether something lies in a part of the earth. */
export const lies = (north: number, east: number, a: Area) => north >= a.south && north <= a.north && (a.west <= a.east ? east >= a.west && east <= a.east : east >= a.west || east <= a.east);

/** A view in which all of these are seen. */
export function around(places: readonly { north: number; east: number }[], size: Size): View {
  const first = places[0];
  if (!first || size.width === 0) return { north: 30, east: 10, zoom: FARTHEST };
  // Longitudes from the first one, so that a journey over the date line is not a journey round the earth.
  const easts = places.map((p) => turned(p.east - first.east));
  const ups = places.map((p) => up(p.north));
  const [west, east, south, north] = [Math.min(...easts), Math.max(...easts), Math.min(...ups), Math.max(...ups)];
  const room = { width: Math.max(80, size.width - 160), height: Math.max(80, size.height - 160) };
  const fits = Math.min((room.width * 360) / (east - west || 1e-9), (room.height * 2) / (north - south || 1e-9));
  return held({ north: northOf((south + north) / 2), east: first.east + (west + east) / 2, zoom: Math.min(11, Math.log2(fits / TILE)) });
}

/** The view as an address says it. */
export const written = ({ north, east, zoom }: View) => `${north.toFixed(4)}/${east.toFixed(4)}/${zoom.toFixed(1)}`;

/** What an address says, if that is a view. */
export function read(text: string | null): View | undefined {
  const [north, east, zoom, more] = (text ?? "").split("/").map((part) => (/^-?\d{1,3}(\.\d+)?$/.test(part) ? Number(part) : Number.NaN));
  if (more !== undefined || north === undefined || east === undefined || zoom === undefined || Number.isNaN(north + east + zoom)) return undefined;
  return held({ north, east, zoom });
}

/** The earth is so long around, in kilometres. */
const AROUND = 40_030;

/** A bar that is at most so long, for a round distance: how far, and how long it is. */
export function bar(view: View, longest: number): { says: string; width: number } {
  const pixel = (AROUND * Math.cos((view.north * Math.PI) / 180)) / widthOf(view.zoom);
  const most = pixel * longest;
  const power = 10 ** Math.floor(Math.log10(most));
  const round = [5, 2, 1].map((n) => n * power).find((n) => n <= most) ?? power;
  const says = round >= 1 ? `${round.toLocaleString("en")} km` : `${Math.round(round * 1000)} m`;
  return { says, width: round / pixel };
}
