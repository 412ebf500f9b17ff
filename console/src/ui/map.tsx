/** The earth as far as it is seen, moved by mouse, fingers and keys, with what lies on it. */
import { useEffect, useEffectEvent, useLayoutEffect, useRef, useState, type KeyboardEvent, type ReactNode, type RefObject } from "react";
import { bar, moved, pointOf, widthOf, zoomed, type Point, type Size, type View } from "./atlas";
import { coloursOf, draw, finenessOf, useLand, type Land } from "./earth";

/** Drawn beyond the edges by this share, so that a map that is moved has something there. */
const MARGIN = 0.25;
/** After the last movement, so long until it is drawn anew, in milliseconds. */
const REST = 90;
const STEP = 1;

/** How large a part of the page is, as it is now. */
export function useSize(part: RefObject<HTMLElement | null>): Size {
  const [size, setSize] = useState<Size>({ width: 0, height: 0 });
  // The outside system: the size of the window.
  useLayoutEffect(() => {
    if (!part.current) return;
    const measure = () => part.current && setSize({ width: part.current.clientWidth, height: part.current.clientHeight });
    const watcher = new ResizeObserver(measure);
    watcher.observe(part.current);
    measure();
    return () => watcher.disconnect();
  }, [part]);
  return size;
}

/** Counts how often the page has changed between day and night. */
function useNights(): number {
  const [count, setCount] = useState(0);
  // The outside system: the theme of the page, and of the system.
  useEffect(() => {
    const change = () => setCount((n) => n + 1);
    const watcher = new MutationObserver(change);
    watcher.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    const dark = window.matchMedia("(prefers-color-scheme: dark)");
    dark.addEventListener("change", change);
    return () => {
      watcher.disconnect();
      dark.removeEventListener("change", change);
    };
  }, []);
  return count;
}

/** Land and water. While the map moves, what was drawn last moves with it. */
function Ground({ land, view, size, rest }: { land: Land | undefined; view: View; size: Size; rest: number }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [drawn, setDrawn] = useState<View>();
  const nights = useNights();
  const whole = { width: size.width * (1 + 2 * MARGIN), height: size.height * (1 + 2 * MARGIN) };
  const render = useEffectEvent(() => {
    if (!canvas.current?.parentElement || !land || size.width === 0) return;
    draw(canvas.current, land, view, whole, coloursOf(canvas.current.parentElement));
    setDrawn(view);
  });
  const { north, east, zoom } = view;
  // The outside system: the canvas.
  useEffect(() => {
    void [north, east, zoom];
    const timer = setTimeout(render, rest);
    return () => clearTimeout(timer);
  }, [north, east, zoom, rest]);
  useLayoutEffect(() => {
    void [land, nights];
    if (size.width + size.height > 0) render();
  }, [land, nights, size.width, size.height]);
  const at = drawn && pointOf(view, drawn.north, drawn.east);
  const scale = drawn ? widthOf(view.zoom) / widthOf(drawn.zoom) : 1;
  return (
    <canvas
      ref={canvas}
      aria-hidden
      className="pointer-events-none absolute max-w-none"
      style={{ width: whole.width, height: whole.height, left: -size.width * MARGIN, top: -size.height * MARGIN, transform: at && `translate(${at.x}px, ${at.y}px) scale(${scale})` }}
    />
  );
}

interface MapProps {
  view: View;
  /** Moved by hand. */
  onView: (view: View) => void;
  /** What it is called for those who do not see it. */
  label: string;
  /** What lies on it, by the size that it has. */
  children: (size: Size) => ReactNode;
  className?: string;
}

export function EarthMap({ view, onView, label, children, className = "" }: MapProps) {
  const part = useRef<HTMLDivElement>(null);
  const size = useSize(part);
  const { land, failed } = useLand(finenessOf(view.zoom));
  useMoves(part, view, onView);
  const press = (e: KeyboardEvent) => {
    if (e.target !== e.currentTarget || e.ctrlKey || e.metaKey || e.altKey) return;
    const by = Math.round(size.width / 6);
    const ways: { [key: string]: Point } = { ArrowLeft: { x: by, y: 0 }, ArrowRight: { x: -by, y: 0 }, ArrowUp: { x: 0, y: by }, ArrowDown: { x: 0, y: -by } };
    const way = ways[e.key];
    if (way) onView(moved(view, way));
    else if (e.key === "+" || e.key === "=") onView(zoomed(view, STEP));
    else if (e.key === "-") onView(zoomed(view, -STEP));
    else return;
    e.preventDefault();
  };
  const scale = bar(view, 120);
  const control = "bg-raised border-line flex size-9 items-center justify-center border text-[18px] text-ink hover:border-soft";
  return (
    <div ref={part} role="group" aria-label={label} tabIndex={0} onKeyDown={press} className={`relative touch-none overflow-hidden bg-(--rock-chamber) select-none ${className}`}>
      <Ground land={land} view={view} size={size} rest={REST} />
      {size.width > 0 && children(size)}
      {failed && <p className="bg-raised absolute top-3 left-3 m-0 rounded-lg px-3 py-1.5 text-[14px]">Land and borders could not be fetched. What was taken where is right all the same.</p>}
      <div className="absolute top-3 right-3 flex flex-col">
        <button type="button" aria-label="Nearer" className={`${control} rounded-t-lg`} onClick={() => onView(zoomed(view, STEP))}>
          +
        </button>
        <button type="button" aria-label="Farther" className={`${control} rounded-b-lg border-t-0`} onClick={() => onView(zoomed(view, -STEP))}>
          −
        </button>
      </div>
      <p className="numbers pointer-events-none absolute bottom-2 left-3 m-0 text-[12.5px] text-ink">
        <span className="block border-2 border-t-0 border-ink" style={{ width: scale.width, height: 6 }} />
        {scale.says}
      </p>
    </div>
  );
}

/** A piece of the map with a spot on it, that does not move. */
export function Spot({ north, east, zoom }: { north: number; east: number; zoom: number }) {
  const part = useRef<HTMLDivElement>(null);
  const size = useSize(part);
  const view = { north, east, zoom };
  const { land } = useLand(finenessOf(zoom));
  return (
    <div ref={part} aria-hidden className="border-line relative h-[130px] overflow-hidden rounded-lg border bg-(--rock-chamber)">
      <Ground land={land} view={view} size={size} rest={0} />
      <span className="border-raised absolute top-1/2 left-1/2 size-3.5 -translate-1/2 rounded-full border-2 bg-(--accent)" />
    </div>
  );
}

/** What wheel, mouse and fingers do to it. */
function useMoves(part: RefObject<HTMLElement | null>, view: View, onView: (view: View) => void) {
  const now = useRef(view);
  // Several movements come before the page is drawn once.
  useLayoutEffect(() => {
    now.current = view;
  }, [view]);
  const go = useEffectEvent((to: View) => {
    now.current = to;
    onView(to);
  });
  // The outside system: wheel, mouse, fingers.
  useEffect(() => {
    const map = part.current;
    if (!map) return;
    const fingers = new Map<number, Point>();
    const fromMiddle = (p: Point) => {
      const box = map.getBoundingClientRect();
      return { x: p.x - box.left - box.width / 2, y: p.y - box.top - box.height / 2 };
    };
    const wheel = (e: WheelEvent) => {
      e.preventDefault();
      const lines = e.deltaMode === WheelEvent.DOM_DELTA_LINE ? 30 : 1;
      go(zoomed(now.current, (-e.deltaY * lines * (e.ctrlKey ? 4 : 1)) / 350, fromMiddle({ x: e.clientX, y: e.clientY })));
    };
    const down = (e: PointerEvent) => {
      if (e.button !== 0 || (e.target as Element).closest("button, a")) return;
      map.setPointerCapture(e.pointerId);
      fingers.set(e.pointerId, { x: e.clientX, y: e.clientY });
    };
    const move = (e: PointerEvent) => {
      const before = fingers.get(e.pointerId);
      if (!before) return;
      const at = { x: e.clientX, y: e.clientY };
      fingers.set(e.pointerId, at);
      const still = [...fingers.entries()].find(([id]) => id !== e.pointerId)?.[1];
      if (!still) return go(moved(now.current, { x: at.x - before.x, y: at.y - before.y }));
      const apart = (p: Point) => Math.max(1, Math.hypot(p.x - still.x, p.y - still.y));
      const half = { x: (at.x - before.x) / 2, y: (at.y - before.y) / 2 };
      go(moved(zoomed(now.current, Math.log2(apart(at) / apart(before)), fromMiddle({ x: (at.x + still.x) / 2, y: (at.y + still.y) / 2 })), half));
    };
    const up = (e: PointerEvent) => void fingers.delete(e.pointerId);
    map.addEventListener("wheel", wheel, { passive: false });
    map.addEventListener("pointerdown", down);
    map.addEventListener("pointermove", move);
    map.addEventListener("pointerup", up);
    map.addEventListener("pointercancel", up);
    return () => {
      map.removeEventListener("wheel", wheel);
      map.removeEventListener("pointerdown", down);
      map.removeEventListener("pointermove", move);
      map.removeEventListener("pointerup", up);
      map.removeEventListener("pointercancel", up);
    };
  }, [part]);
}
