/** How a picture lies in its room: as a whole, or nearer, up to its own pixels and a little beyond. Lengths are those of the page. */

export type Size = { width: number; height: number };
export type Point = { x: number; y: number };

/** How much of its own pixels is shown as one of the page's (1: each), and how far its middle lies from the middle of the room. */
export type View = { scale: number; x: number; y: number };

/** How large something is to be drawn that lies in this box once it is turned by so many quarters. */
export const lying = (turned: number, { width, height }: Size): Size => (turned % 2 === 0 ? { width, height } : { width: height, height: width });

/** The whole picture, as large as it fits. One that is smaller than its room is not made larger. */
export const whole = (picture: Size, room: Size): View => ({ scale: Math.min(1, room.width / picture.width, room.height / picture.height), x: 0, y: 0 });

/** Nobody needs to come nearer than so many of the page's pixels for one of the picture's. */
const NEAREST = 4;
/** A small picture can be looked at in this size at least. */
const TWICE = 2;

export const isWhole = (view: View, picture: Size, room: Size) => view.scale <= whole(picture, room).scale * 1.001;

/** The nearest that one comes. */
export const nearest = (picture: Size, room: Size) => Math.max(NEAREST, whole(picture, room).scale * TWICE);

/** The same view, with nothing but the picture where there is enough of it: it is not pushed out of its room. */
export function held(view: View, picture: Size, room: Size): View {
  const scale = Math.min(nearest(picture, room), Math.max(whole(picture, room).scale, view.scale));
  const within = (at: number, length: number, space: number) => {
    const over = Math.max(0, (length * scale - space) / 2);
    return Math.min(over, Math.max(-over, at));
  };
  return { scale, x: within(view.x, picture.width, room.width), y: within(view.y, picture.height, room.height) };
}

/** Nearer or further by a factor; what lies under a point stays there, as far as it can. `at`: from the middle of the room. */
export function zoomed(view: View, factor: number, at: Point, picture: Size, room: Size): View {
  const scale = Math.min(nearest(picture, room), Math.max(whole(picture, room).scale, view.scale * factor));
  const by = scale / view.scale;
  return held({ scale, x: at.x - (at.x - view.x) * by, y: at.y - (at.y - view.y) * by }, picture, room);
}

export const moved = (view: View, by: Point, picture: Size, room: Size): View => held({ ...view, x: view.x + by.x, y: view.y + by.y }, picture, room);

/** What a double click leads to: the picture's own pixels, or a little nearer if those are there already, and back to the whole. */
export function toggled(view: View, at: Point, picture: Size, room: Size, pixel: number): View {
  const fit = whole(picture, room);
  if (!isWhole(view, picture, room)) return fit;
  const own = 1 / pixel > fit.scale * 1.2 ? 1 / pixel : fit.scale * TWICE;
  return zoomed(fit, own / fit.scale, at, picture, room);
}

/** What a finger meant that went over a picture that is shown as a whole: to the next one, to the one before, or away. */
export function swiped(by: Point, milliseconds: number): "next" | "before" | "away" | undefined {
  const [far, across] = [Math.max(Math.abs(by.x), Math.abs(by.y)), Math.abs(by.x) > Math.abs(by.y) * 1.4];
  // A short stroke counts if it was a quick one.
  if (far < (milliseconds < 250 ? 36 : 90)) return undefined;
  if (across) return by.x < 0 ? "next" : "before";
  return by.y > Math.abs(by.x) * 1.4 ? "away" : undefined;
}
