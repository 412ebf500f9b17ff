/** Choosing pictures of the contact sheet: by a click, from one to another, with a frame that the mouse draws, or with a finger that stays. */
import { createContext, use, useEffect, useEffectEvent, useState, type RefObject } from "react";
import { added, extended, type Choice, type Mark } from "./choice";

export interface Choosing {
  choice: Choice;
  /** A click on a picture chooses it, and does not open it. */
  active: boolean;
  /** Chooses a picture or not any more, or, with `to`, everything from the last one that was chosen to this one. */
  pick: (mark: Mark, to?: boolean) => void;
  /** Chooses a whole month, or nothing of it. */
  pickMonth: (month: string, on: boolean) => void;
}

export const ChoosingContext = createContext<Choosing | undefined>(undefined);

export function useChoosing(): Choosing {
  const choosing = use(ChoosingContext);
  if (!choosing) throw new Error("no sheet is around this");
  return choosing;
}

/** Which picture a part of the page is, if it is one. */
export function markOf(part: Element | null | undefined): Mark | undefined {
  const { id, taken } = part?.closest<HTMLElement>("[data-taken]")?.dataset ?? {};
  return id && taken ? { id, taken } : undefined;
}

/** A finger that stays for so long chooses. */
const STAYS = 420;
/** What moves less far has not moved. */
const STILL = 8;
/** So near to an edge of the screen, the page goes along. */
const EDGE = 56;
const STEP = 14;

export interface Frame {
  left: number;
  top: number;
  width: number;
  height: number;
}

interface Drag {
  pointer: number;
  touch: boolean;
  /** Where it began, on the page. */
  x: number;
  y: number;
  from: Mark | undefined;
  /** What was chosen before. */
  base: Choice;
  /** What the frame has met, and where on the page that is: what has left the screen is on the page no more. */
  met: Map<string, { mark: Mark; left: number; top: number; right: number; bottom: number }>;
  active: boolean;
}

/** Where the pictures end on the screen: at what covers them, or at its lower edge. */
const floor = () => document.querySelector("[data-floor]")?.getBoundingClientRect().top ?? window.innerHeight;

const overlaps = (a: { left: number; top: number; right: number; bottom: number }, b: typeof a) => a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom;

/**
 * The frame that the mouse draws, while it does. `months`: all that there are, newest first; `begun`: the picture from which a finger chooses.
 */
export function useDrag(sheet: RefObject<HTMLElement | null>, choice: Choice, months: readonly string[], choose: (choice: Choice) => void, begun: (mark: Mark) => void): Frame | undefined {
  const [frame, setFrame] = useState<Frame>();
  const now = useEffectEvent(() => choice);
  const give = useEffectEvent(choose);
  const begin = useEffectEvent(begun);
  const between = useEffectEvent((base: Choice, one: Mark, other: Mark) => extended(base, one, other, months));
  // The outside system: mouse and fingers.
  useEffect(() => {
    const part = sheet.current;
    if (!part) return;
    let drag: Drag | undefined;
    let at = { x: 0, y: 0 };
    let stays: ReturnType<typeof setTimeout> | undefined;
    let scrolling = 0;

    const look = () => {
      if (!drag?.active) return;
      if (drag.touch) {
        const mark = markOf(document.elementFromPoint(at.x, Math.min(at.y, floor() - 8)));
        if (mark && drag.from) give(between(drag.base, drag.from, mark));
        return;
      }
      const [x, y] = [at.x + window.scrollX, at.y + window.scrollY];
      const drawn = { left: Math.min(x, drag.x), top: Math.min(y, drag.y), right: Math.max(x, drag.x), bottom: Math.max(y, drag.y) };
      setFrame({ left: drawn.left - window.scrollX, top: drawn.top - window.scrollY, width: drawn.right - drawn.left, height: drawn.bottom - drawn.top });
      for (const one of part.querySelectorAll<HTMLElement>("[data-taken]")) {
        const mark = markOf(one);
        const box = one.getBoundingClientRect();
        if (mark) drag.met.set(mark.id, { mark, left: box.left + window.scrollX, top: box.top + window.scrollY, right: box.right + window.scrollX, bottom: box.bottom + window.scrollY });
      }
      give(added(drag.base, [...drag.met.values()].filter((one) => overlaps(one, drawn)).map((one) => one.mark)));
    };
    const along = () => {
      scrolling = 0;
      if (!drag?.active) return;
      const by = at.y < EDGE ? -STEP : at.y > floor() - EDGE ? STEP : 0;
      if (by !== 0) {
        window.scrollBy(0, by);
        look();
      }
      scrolling = requestAnimationFrame(along);
    };
    const start = () => {
      if (!drag) return;
      drag.active = true;
      // Also where the mouse is let go outside of the window.
      if (!drag.touch) part.setPointerCapture(drag.pointer);
      scrolling ||= requestAnimationFrame(along);
      look();
    };
    const end = () => {
      clearTimeout(stays);
      if (drag?.active) {
        // The click that the button under it gets now was not meant.
        const swallow = (e: Event) => {
          e.preventDefault();
          e.stopPropagation();
        };
        window.addEventListener("click", swallow, { capture: true, once: true });
        setTimeout(() => window.removeEventListener("click", swallow, { capture: true }), 50);
      }
      drag = undefined;
      setFrame(undefined);
    };
    const down = (e: PointerEvent) => {
      const target = e.target as Element;
      if (!e.isPrimary || e.button !== 0 || e.shiftKey || target.closest("a, input")) return;
      at = { x: e.clientX, y: e.clientY };
      const from = markOf(target);
      drag = { pointer: e.pointerId, touch: e.pointerType !== "mouse", x: e.clientX + window.scrollX, y: e.clientY + window.scrollY, from, base: now(), met: new Map(), active: false };
      if (!drag.touch || !from) return;
      stays = setTimeout(() => {
        begin(from);
        start();
      }, STAYS);
    };
    const move = (e: PointerEvent) => {
      if (!drag || !e.isPrimary) return;
      const moved = Math.hypot(e.clientX + window.scrollX - drag.x, e.clientY + window.scrollY - drag.y) > STILL;
      at = { x: e.clientX, y: e.clientY };
      if (drag.active) look();
      else if (moved && drag.touch) end();
      else if (moved) start();
    };
    // While a finger chooses, the page does not go along with it, no menu opens, and no text is marked.
    const hold = (e: Event) => {
      if (drag?.active) e.preventDefault();
    };
    const mark = (e: Event) => {
      if (drag) e.preventDefault();
    };
    part.addEventListener("pointerdown", down);
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", end);
    window.addEventListener("pointercancel", end);
    part.addEventListener("touchmove", hold, { passive: false });
    part.addEventListener("contextmenu", hold);
    part.addEventListener("selectstart", mark);
    part.addEventListener("dragstart", mark);
    return () => {
      end();
      cancelAnimationFrame(scrolling);
      part.removeEventListener("pointerdown", down);
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", end);
      window.removeEventListener("pointercancel", end);
      part.removeEventListener("touchmove", hold);
      part.removeEventListener("contextmenu", hold);
      part.removeEventListener("selectstart", mark);
      part.removeEventListener("dragstart", mark);
    };
  }, [sheet]);
  return frame;
}

