/** A picture as large as one likes: as a whole, nearer up to its own pixels, moving if a part of it moves; or a film. */
import { useEffect, useEffectEvent, useLayoutEffect, useRef, useState, type CSSProperties, type ReactNode, type RefObject } from "react";
import { ask, type Original, type Schemas } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { count, wall } from "../format";
import { preview as shownAt } from "../ui/preview";
import { isWhole, lying, moved, swiped, toggled, whole, zoomed, type Point, type Size, type View } from "../ui/zoom";

export interface Ways {
  next: (() => void) | undefined;
  before: (() => void) | undefined;
  away: () => void;
}

/** What browsers show by themselves. */
export const SHOWN = ["image/jpeg", "image/png", "image/webp", "image/gif", "image/avif"];
/** A browser that unpacks more pixels than these may be ended by its system. */
const MOST_PIXELS = 120_000_000;
/** A key or a button brings one nearer by so much. */
const STEP = 1.5;
const TAP = { within: 300, near: 30 };

const control = "flex h-9 min-w-9 items-center justify-center rounded-full border-0 bg-black/55 px-2.5 text-[15px] text-white hover:bg-black/75 disabled:opacity-40";

export function Picture({ original: o, ways }: { original: Original; ways: Ways }) {
  if (o.kind === "video") return <Film key={o.id} original={o} />;
  // What is being made anew of a picture that was just turned, its own pixels can stand in for.
  if (o.preview !== "ready" && !(o.preview === "waiting" && sharpest(o))) {
    return (
      <Note title={o.preview === "waiting" ? "The preview is being made" : "No preview for this file"}>The file is kept exactly as it came. Download it to open it with another program.</Note>
    );
  }
  return <Near key={`${o.id} ${o.turned}`} original={o} ways={ways} />;
}

function Note({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="max-w-sm p-8 text-center text-[#d9d6c8]">
      <p className="m-0 text-[18px] font-semibold">{title}</p>
      <p className="mt-2 mb-0">{children}</p>
    </div>
  );
}

function Film({ original: o }: { original: Original }) {
  const [failed, setFailed] = useState(false);
  const made = o.film?.state === "made";
  // What was made since is tried, too.
  const source = made ? `/api/originals/${o.id}/film` : `/api/originals/${o.id}/bytes?look=true`;
  const [tried, setTried] = useState(source);
  if (tried !== source) {
    setTried(source);
    setFailed(false);
  }
  if (failed)
    return (
      <Note title="This browser cannot play this film">
        It is kept exactly as it came. {o.film ? "Download it to play it with another program." : "A version that browsers play is being made; it appears here by itself."}
      </Note>
    );
  return (
    // biome-ignore lint: household videos have no captions
    <video controls playsInline preload="metadata" onError={() => setFailed(true)} poster={o.preview === "ready" ? shownAt(o.id, o.turned, "large") : undefined} src={source} className="max-h-full max-w-full" />
  );
}

/** How large a part of the page is, as it is now. */
function useSize(part: RefObject<HTMLElement | null>): Size {
  const [size, setSize] = useState<Size>({ width: 0, height: 0 });
  // The outside system: the size of the window.
  useLayoutEffect(() => {
    if (!part.current) return;
    const watcher = new ResizeObserver(([entry]) => entry && setSize({ width: entry.contentRect.width, height: entry.contentRect.height }));
    watcher.observe(part.current);
    setSize({ width: part.current.clientWidth, height: part.current.clientHeight });
    return () => watcher.disconnect();
  }, [part]);
  return size;
}

/** Where the pixels of the picture itself are to be had, if a browser can show them. */
function sharpest(o: Original): string | undefined {
  if ((o.width ?? 0) * (o.height ?? 0) > MOST_PIXELS) return undefined;
  if (SHOWN.includes(o.media_type ?? "")) return `/api/originals/${o.id}/bytes?look=true`;
  return o.derived ? `/api/originals/${o.id}/derived` : undefined;
}

function Near({ original: o, ways }: { original: Original; ways: Ways }) {
  const place = useRef<HTMLDivElement>(null);
  const room = useSize(place);
  const [preview, setPreview] = useState<Size>();
  const [sharp, setSharp] = useState<"no" | "there" | "failed">("no");
  const [view, setView] = useState<View>();
  const [slid, setSlid] = useState(0);
  // A file that does not say how large it is, is as large as its preview.
  const picture = o.width && o.height ? { width: o.width, height: o.height } : (preview ?? { width: 4, height: 3 });
  const now = view ?? whole(picture, room);
  const fits = isWhole(now, picture, room);
  const pixel = window.devicePixelRatio || 1;
  const source = sharpest(o);
  const isThere = o.preview === "ready";
  // More pixels are shown than the preview has, or there is none yet.
  const wanted = !isThere || preview !== undefined && picture.width * now.scale * pixel > preview.width * 1.05;
  const change = (to: (view: View) => View) => setView((before) => to(before ?? whole(picture, room)));
  const middle = { x: 0, y: 0 };
  const nearer = (by: number, at: Point = middle) => change((v) => zoomed(v, by, at, picture, room));
  useGestures(place, {
    zoom: nearer,
    move: (by) => change((v) => moved(v, by, picture, room)),
    tap: (at) => change((v) => toggled(v, at, picture, room, pixel)),
    fits,
    slide: setSlid,
    swipe: (way) => ways[way]?.(),
  });
  const turn = useDo((quarters: number) => ask<Schemas["Marked"]>("/api/turns", "POST", { pictures: [o.id], quarters }), [keys.original(o.id), ["library", "month"]]);
  useKeys((key) => {
    if (o.own && key === "r") turn.mutate(1);
    else if (o.own && key === "R") turn.mutate(-1);
    else if (key === "+" || key === "=") nearer(STEP);
    else if (key === "-") nearer(1 / STEP);
    else if (key === "0") setView(undefined);
    else if (key === "1") change((v) => zoomed(v, 1 / pixel / v.scale, middle, picture, room));
    else return false;
    return true;
  });
  const [width, height] = [picture.width * now.scale, picture.height * now.scale];
  const box = { width, height, left: (room.width - width) / 2 + now.x + slid, top: (room.height - height) / 2 + now.y };
  const alt = `${o.path.split("/").pop()}, taken ${wall(o.taken_local)}`;
  const said = turn.isError ? turn.error.detail : wanted && (!isThere && sharp === "failed" ? "The preview is being made." : sharp === "failed" || !source ? `A preview of ${preview && count(preview.width)} × ${preview && count(preview.height)} pixels. Download the original to see all of it.` : sharp !== "there" ? "Loading its own pixels …" : undefined);
  return (
    <div ref={place} className="absolute inset-0 touch-none overflow-hidden select-none" style={{ cursor: fits ? "zoom-in" : "grab" }}>
      <div className="absolute" style={box}>
        {isThere && <img src={shownAt(o.id, o.turned, "large")} alt={alt} draggable={false} onLoad={(e) => setPreview({ width: e.currentTarget.naturalWidth, height: e.currentTarget.naturalHeight })} className="absolute size-full max-w-none" />}
        {source && sharp !== "failed" && (wanted || sharp === "there") && (
          <img
            src={source}
            alt={isThere ? "" : alt}
            draggable={false}
            decoding="async"
            onLoad={() => setSharp("there")}
            onError={() => setSharp("failed")}
            style={turnedIn(o.turned, box)}
            className={`absolute max-w-none ${sharp === "there" ? "" : "opacity-0"}`}
          />
        )}
      </div>
      <Moving original={o} box={box} />
      {said && (
        <p role="status" className="absolute top-4 left-1/2 m-0 -translate-x-1/2 rounded-full bg-black/65 px-3.5 py-1 text-center text-[14px] text-white">
          {said}
        </p>
      )}
      <div className="absolute bottom-4 left-1/2 flex -translate-x-1/2 gap-1.5">
        <button type="button" aria-label="Smaller" disabled={fits} className={control} onClick={() => nearer(1 / STEP)}>
          −
        </button>
        <button type="button" disabled={fits} aria-label={`${percent(now.scale * pixel)} of its own pixels; show it as a whole`} className={`${control} numbers min-w-[74px]`} onClick={() => setView(undefined)}>
          {percent(now.scale * pixel)}
        </button>
        <button type="button" aria-label="Larger" className={control} onClick={() => nearer(STEP)}>
          +
        </button>
        {o.own &&
          ([["↺", "Turn to the left", -1, "Shift+R"] as const, ["↻", "Turn to the right", 1, "R"] as const]).map(([sign, words, quarters, key]) => (
            <button key={words} type="button" aria-label={words} aria-keyshortcuts={key} className={control} onClick={() => turn.mutate(quarters)}>
              {sign}
            </button>
          ))}
      </div>
    </div>
  );
}

/** Fills a box with what is turned by so many quarters. */
const turnedIn = (turned: number, box: Size): CSSProperties => ({ ...lying(turned, box), left: "50%", top: "50%", transform: `translate(-50%, -50%) rotate(${turned * 90}deg)` });

const percent = (n: number) => (n < 0.1 ? `${(n * 100).toFixed(1)} %` : `${Math.round(n * 100)} %`);

/** The short film that belongs to a picture: it plays while the mouse is on its button, or from a press to its end. */
function Moving({ original: o, box }: { original: Original; box: { left: number; top: number; width: number; height: number } }) {
  const [plays, setPlays] = useState<"hover" | "press" | "failed">();
  const [tried, setTried] = useState(0);
  const part = o.parts.find((p) => p.part === "motion");
  // One that this browser does not play has a version that it plays.
  const sources = part ? [`/api/originals/${part.id}/bytes?look=true`, `/api/originals/${part.id}/film`] : o.film_inside && o.film?.state === "made" ? [`/api/originals/${o.id}/film`] : [];
  if (sources.length === 0) return null;
  const failed = () => (tried + 1 < sources.length ? setTried(tried + 1) : setPlays("failed"));
  return (
    <>
      {plays && plays !== "failed" && (
        <div className="pointer-events-none absolute overflow-hidden" style={box}>
          <video key={tried} autoPlay playsInline muted={plays === "hover"} loop={plays === "hover"} onEnded={() => setPlays(undefined)} onError={failed} src={sources[tried]} className="absolute max-w-none object-cover" style={turnedIn(o.turned, box)} />
        </div>
      )}
      <button
        type="button"
        className={`${control} absolute bottom-4 left-4 max-sm:bottom-[60px]`}
        aria-pressed={plays === "press"}
        onPointerEnter={(e) => e.pointerType === "mouse" && setPlays((was) => was ?? "hover")}
        onPointerLeave={() => setPlays((was) => (was === "hover" ? undefined : was))}
        onClick={() => setPlays((was) => (was === "press" ? undefined : "press"))}
      >
        {plays === "failed" ? "Its moving part cannot be played here" : plays === "press" ? "Stop" : "Play its moving part"}
      </button>
    </>
  );
}

/** Keys anywhere in the view, unless somebody writes or is asked something. */
function useKeys(press: (key: string) => boolean) {
  const pressed = useEffectEvent((e: KeyboardEvent) => {
    if (e.ctrlKey || e.metaKey || e.altKey || document.querySelector("[role=alertdialog]")) return;
    // The picture is in one; what is asked in another is not about how it lies.
    if (document.querySelectorAll("[role=dialog]").length > 1) return;
    if (e.target instanceof HTMLElement && e.target.closest("input, textarea, select")) return;
    if (press(e.key)) e.preventDefault();
  });
  // The outside system: the keyboard.
  useEffect(() => {
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, []);
}

interface Gestures {
  /** By a factor, at a point from the middle of the room. */
  zoom: (by: number, at: Point) => void;
  move: (by: Point) => void;
  tap: (at: Point) => void;
  /** The whole picture is shown: a finger that goes over it leads to another one. */
  fits: boolean;
  slide: (by: number) => void;
  swipe: (way: "next" | "before" | "away") => void;
}

/** What wheel, mouse and fingers do to a picture. */
function useGestures(place: RefObject<HTMLElement | null>, gestures: Gestures) {
  const mean = useEffectEvent((what: (gestures: Gestures) => void) => what(gestures));
  // The outside system: wheel, mouse, fingers.
  useEffect(() => {
    const part = place.current;
    if (!part) return;
    const fingers = new Map<number, Point>();
    let began = { x: 0, y: 0, at: 0, several: false };
    let tapped = { x: 0, y: 0, at: 0 };
    const fromMiddle = (p: Point) => {
      const box = part.getBoundingClientRect();
      return { x: p.x - box.left - box.width / 2, y: p.y - box.top - box.height / 2 };
    };
    const wheel = (e: WheelEvent) => {
      e.preventDefault();
      const lines = e.deltaMode === WheelEvent.DOM_DELTA_LINE ? 30 : 1;
      // A pinch on a touch pad comes as a wheel with this key, in small steps.
      mean((g) => g.zoom(Math.exp((-e.deltaY * lines * (e.ctrlKey ? 4 : 1)) / 500), fromMiddle({ x: e.clientX, y: e.clientY })));
    };
    const down = (e: PointerEvent) => {
      if (e.button !== 0 || (e.target as Element).closest("button")) return;
      part.setPointerCapture(e.pointerId);
      fingers.set(e.pointerId, { x: e.clientX, y: e.clientY });
      began = fingers.size === 1 ? { x: e.clientX, y: e.clientY, at: e.timeStamp, several: false } : { ...began, several: true };
    };
    const move = (e: PointerEvent) => {
      const before = fingers.get(e.pointerId);
      if (!before) return;
      const now = { x: e.clientX, y: e.clientY };
      fingers.set(e.pointerId, now);
      const [one, other] = [...fingers.values()];
      if (one && other) {
        const still = one === now ? other : one;
        const apart = (p: Point) => Math.max(1, Math.hypot(p.x - still.x, p.y - still.y));
        mean((g) => g.zoom(apart(now) / apart(before), fromMiddle({ x: (now.x + still.x) / 2, y: (now.y + still.y) / 2 })));
        mean((g) => g.move({ x: (now.x - before.x) / 2, y: (now.y - before.y) / 2 }));
        return;
      }
      mean((g) => {
        if (!g.fits) g.move({ x: now.x - before.x, y: now.y - before.y });
        else if (e.pointerType !== "mouse" && !began.several) g.slide(now.x - began.x);
      });
    };
    const up = (e: PointerEvent) => {
      if (!fingers.delete(e.pointerId)) return;
      mean((g) => g.slide(0));
      if (fingers.size > 0 || began.several || e.type === "pointercancel") return;
      const by = { x: e.clientX - began.x, y: e.clientY - began.y };
      if (Math.hypot(by.x, by.y) < 8) {
        const twice = e.timeStamp - tapped.at < TAP.within && Math.hypot(e.clientX - tapped.x, e.clientY - tapped.y) < TAP.near;
        tapped = { x: e.clientX, y: e.clientY, at: twice ? 0 : e.timeStamp };
        if (twice) mean((g) => g.tap(fromMiddle(tapped)));
        return;
      }
      const way = e.pointerType === "mouse" ? undefined : swiped(by, e.timeStamp - began.at);
      if (way) mean((g) => g.fits && g.swipe(way));
    };
    part.addEventListener("wheel", wheel, { passive: false });
    part.addEventListener("pointerdown", down);
    part.addEventListener("pointermove", move);
    part.addEventListener("pointerup", up);
    part.addEventListener("pointercancel", up);
    return () => {
      part.removeEventListener("wheel", wheel);
      part.removeEventListener("pointerdown", down);
      part.removeEventListener("pointermove", move);
      part.removeEventListener("pointerup", up);
      part.removeEventListener("pointercancel", up);
    };
  }, [place]);
}
