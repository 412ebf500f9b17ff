/** A month of the contact sheet: rows of even height, of which those are on the page that are near the screen. */
import { memo, startTransition, useEffect, useLayoutEffect, useMemo, useRef, useState, type CSSProperties, type MouseEvent, type RefObject } from "react";
import { useNavigate } from "react-router";
import type { OriginalCard, Schemas } from "../api/client";
import { usePortions, useShape } from "../api/hooks";
import { count, duration, month as monthName } from "../format";
import { addressOf, drawn, GAP, heightOf, near, places, portionsOf, pressed, pushed, ratiosOf, rowOf, rows, type Among, type Row } from "../ui/sheet";
import { Tick } from "../ui/choose";
import { useChoosing } from "../ui/choosing";
import { isChosen, ofMonth, type Mark } from "../ui/choice";
import { Fault } from "../ui/states";
import { preview } from "../ui/preview";
import { useBlur } from "../ui/thumb";

type Month = Schemas["Month"];

/** Rows are this high; on a phone lower. */
const HEIGHT = 168;
const LOW = 116;
const PHONE = 640;
/** So much wider than high is a picture of which nothing is known yet. */
const USUAL = 1.4;
const NONE: Row[] = [];
/** What is gone to lies a little below the upper edge. */
const BELOW = 56;

/** The width of a part of the page, as it is now. */
function useWidth(part: RefObject<HTMLElement | null>): number {
  const [width, setWidth] = useState(0);
  // The outside system: the size of the window.
  useLayoutEffect(() => {
    if (!part.current) return;
    const watcher = new ResizeObserver(([entry]) => entry && setWidth(entry.contentRect.width));
    watcher.observe(part.current);
    setWidth(part.current.clientWidth);
    return () => watcher.disconnect();
  }, [part]);
  return width;
}

/** Whether a part of the page is on the screen, or near. */
function useNear(part: RefObject<HTMLElement | null>, first: boolean): boolean {
  const [isNear, setNear] = useState(first);
  // The outside system: what of the page is on the screen.
  useEffect(() => {
    if (!part.current) return;
    const watcher = new IntersectionObserver((entries) => setNear(entries.some((e) => e.isIntersecting)), { rootMargin: "900px" });
    watcher.observe(part.current);
    return () => watcher.disconnect();
  }, [part]);
  return isNear;
}

interface Part {
  month: Month;
  /** Of which pictures it is. */
  among: Among;
  /** Whether it is on the screen when the page opens. */
  first: boolean;
  /** The picture that the page is opened at, if it is one of this month. */
  arrive: number | undefined;
  /** So many pictures are on the page, in all months. */
  total: number;
}

export function MonthSheet({ month, among, first, arrive, total }: Part) {
  const seam = useRef<HTMLElement>(null);
  const arrived = useRef(false);
  const choosing = useChoosing();
  const chosen = ofMonth(choosing.choice, month.month);
  const isNear = useNear(seam, first);
  const width = useWidth(seam);
  const shape = useShape(month.month, among, isNear);
  const height = window.innerWidth < PHONE ? LOW : HEIGHT;
  const ratios = useMemo(() => (shape.data ? ratiosOf(shape.data.proportions) : undefined), [shape.data]);
  const laid = useMemo(() => rows(ratios ?? [], width, height), [ratios, width, height]);
  // Before a month says how its pictures lie, it has about the room that they need, so that the scroll bar tells the truth.
  const inRow = Math.max(1, Math.round(width / (height * USUAL)));
  const whole = heightOf(ratios ? laid.length : Math.ceil(month.count / inRow), height);
  const room = isNear ? whole : Math.ceil(whole * pressed(total, inRow, height));
  // The outside system: how far the page is scrolled. Once, as soon as it is known where the picture lies.
  useLayoutEffect(() => {
    const list = seam.current?.querySelector("ul");
    if (arrive === undefined || arrived.current || !list || laid.length === 0) return;
    arrived.current = true;
    window.scrollBy(0, list.getBoundingClientRect().top + heightOf(rowOf(laid, arrive), height) - BELOW);
  }, [arrive, laid, height]);
  return (
    <section ref={seam} id={`month-${month.month}`} aria-label={monthName(month.month)} className="mb-7 scroll-mt-4">
      <div className="group mb-2 flex items-end gap-4">
        <h2 className="m-0 text-[21px] whitespace-nowrap">{monthName(month.month)}</h2>
        <svg aria-hidden className="mb-1.5 h-2 min-w-0 grow" viewBox="0 0 400 8" preserveAspectRatio="none">
          <path d="M0 5 C60 1 110 7 180 4 S310 2 400 5" fill="none" stroke="var(--line)" strokeWidth="3" vectorEffect="non-scaling-stroke" />
        </svg>
        <Tick
          aria-label={`Choose ${monthName(month.month)}`}
          checked={chosen}
          onChange={(on) => choosing.pickMonth(month.month, on)}
          className={`mb-1 -mr-1.5 ${choosing.active || chosen ? "" : "pointer-events-none opacity-0 max-sm:hidden group-hover:pointer-events-auto group-hover:opacity-100 focus-visible:opacity-100"}`}
        />
        <span className="numbers text-[14px] text-soft">{count(month.count)}</span>
      </div>
      {shape.isError ? (
        <Fault failure={shape.error} again={() => void shape.refetch()} />
      ) : (
        <Rows month={month.month} among={among} shape={shape.data} ratios={ratios ?? []} laid={isNear ? laid : NONE} width={width} height={height} room={room} />
      )}
    </section>
  );
}

interface Laid {
  month: string;
  among: Among;
  shape: Schemas["MonthShape"] | undefined;
  ratios: number[];
  laid: Row[];
  width: number;
  height: number;
  room: number;
}

/** Whatever becomes of the height of a part above the screen, or across its upper edge: what one sees stays where it is. */
function useStay(part: RefObject<HTMLElement | null>, height: number) {
  const before = useRef(height);
  // The outside system: how far the page is scrolled.
  useLayoutEffect(() => {
    const by = pushed(part.current?.getBoundingClientRect().top ?? 0, before.current, height);
    before.current = height;
    if (Math.abs(by) >= 1) window.scrollBy(0, by);
  }, [part, height]);
}

/** The rows of a month that are near the screen; the others are room. */
function Rows({ month, among, shape, ratios, laid, width, height, room }: Laid) {
  const place = useRef<HTMLUListElement>(null);
  const [[from, to], setNear] = useState<Row>([0, 0]);
  const reach = useRef<Row>([0, 0]);
  useLayoutEffect(() => {
    reach.current = [from, to];
  }, [from, to]);
  // The outside system: how far the page is scrolled, and how high it is: what lies above may take more room than was thought.
  useLayoutEffect(() => {
    if (laid.length === 0) return;
    let asked = 0;
    const look = () => {
      asked = 0;
      const top = place.current?.getBoundingClientRect().top;
      if (top === undefined) return;
      const screen = window.innerHeight;
      const next = (before: Row) => {
        const now = drawn(before, laid.length, height, top, screen);
        return before[0] === now[0] && before[1] === now[1] ? before : now;
      };
      // What is on the screen already comes at once, and what may come there soon, while nothing else is to be done.
      const [first, last] = near(laid.length, height, top, screen, 0);
      if (last > first && (first < reach.current[0] || last > reach.current[1])) setNear(next);
      else startTransition(() => setNear(next));
    };
    const soon = () => {
      asked ||= requestAnimationFrame(look);
    };
    look();
    const higher = new ResizeObserver(soon);
    higher.observe(document.body);
    window.addEventListener("scroll", soon, { passive: true, capture: true });
    window.addEventListener("resize", soon);
    return () => {
      cancelAnimationFrame(asked);
      higher.disconnect();
      window.removeEventListener("scroll", soon, { capture: true });
      window.removeEventListener("resize", soon);
    };
  }, [laid, height]);
  useStay(place, room);
  const all = laid.slice(from, to);
  const portion = shape?.portion ?? 1;
  const { cards, failed } = usePortions(month, among, shape, portionsOf(all[0]?.[0] ?? 0, all[all.length - 1]?.[1] ?? 0, portion));
  return (
    <>
      {failed?.error && <Fault failure={failed.error} again={() => void failed.refetch()} />}
      <ul ref={place} className="relative m-0 list-none p-0" style={{ height: room }}>
        {all.flatMap((row, n) => {
          const top = (from + n) * (height + GAP);
          const lie = places(ratios, row, width, height);
          return lie.map((one, i) => {
            const picture = row[0] + i;
            const card = cards.get(Math.floor(picture / portion))?.[picture % portion];
            return <Thumb key={picture} at={`${month}.${picture}`} among={among} card={card} left={one.left} width={one.width} top={top} height={height} />;
          });
        })}
      </ul>
    </>
  );
}

interface Lies {
  /** Its place in the library. */
  at: string;
  among: Among;
  card: OriginalCard | undefined;
  left: number;
  width: number;
  top: number;
  height: number;
}

/** A picture, or the room that it will have. Most of them stay as they are when rows come and go: only those that come are worked on. */
const Thumb = memo(function Thumb({ at, among, card, left, width, top, height }: Lies) {
  const placeholder = useBlur(card?.placeholder);
  const place = { left, width, top, height };
  if (!card) return <li aria-hidden data-spot={at} style={{ ...place, background: "var(--line)" }} className="absolute rounded-[5px] [contain:size_layout_style]" />;
  return <Card at={at} among={among} card={card} place={place} placeholder={placeholder} />;
});

function Card({ at, among, card, place, placeholder }: { at: string; among: Among; card: OriginalCard; place: CSSProperties; placeholder: string | undefined }) {
  const navigate = useNavigate();
  const choosing = useChoosing();
  const mark: Mark = { id: card.id, taken: card.taken_local };
  const chosen = isChosen(choosing.choice, mark);
  // How safe somebody else's is, is for them to know.
  const unsafe = card.own && (card.layer === "home" || card.layer === "device");
  const label = `${card.words ? `${card.words}: ` : ""}${card.name}, ${card.kind}${card.company.length > 0 ? `, with ${companyWord(card.company)}` : ""}${card.favourite ? ", a favourite" : ""}${unsafe ? ", no copy offsite yet" : ""}`;
  const press = (e: MouseEvent) => {
    if (e.shiftKey || e.ctrlKey || e.metaKey || choosing.active) choosing.pick(mark, e.shiftKey);
    else void navigate(addressOf(among, { picture: card.id }), { state: { sheet: true } });
  };
  return (
    <li data-spot={at} style={place} className={`group absolute rounded-[5px] [contain:size_layout_style] ${chosen ? "outline-accent outline-[3px] -outline-offset-1" : ""}`}>
      <button
        type="button"
        data-at={at}
        data-id={card.id}
        data-taken={card.taken_local}
        aria-pressed={choosing.active ? chosen : undefined}
        onClick={press}
        className="relative block size-full overflow-hidden rounded-[5px] border-0 p-0"
        style={{ background: placeholder ? `center / cover url(${placeholder})` : "var(--line)" }}
      >
        <span className="sr-only">{label}</span>
        {card.preview === "ready" ? (
          <img src={preview(card.id, card.turned)} alt="" loading="lazy" decoding="async" draggable={false} className={`size-full object-cover ${chosen ? "opacity-75" : ""}`} />
        ) : (
          <span className="flex size-full flex-col items-center justify-center gap-1 px-3 text-[13px] text-ink">
            <b className="max-w-full truncate font-semibold">{card.name}</b>
            <span>{card.preview === "waiting" ? "preview is being made" : kindWord(card.kind)}</span>
          </span>
        )}
        {card.kind === "video" && (
          <span className="absolute bottom-1.5 left-1.5 rounded bg-black/65 px-1.5 text-[12.5px] font-semibold text-white">▶ {card.seconds != null && duration(card.seconds)}</span>
        )}
        {card.company.length > 0 && (
          <span className={`absolute bottom-1.5 rounded bg-black/65 px-1.5 text-[12.5px] font-semibold text-white ${card.kind === "video" ? "right-1.5" : "left-1.5"}`}>{companyWord(card.company)}</span>
        )}
        {card.favourite && (
          <span aria-hidden className={`absolute top-1 text-[17px] leading-none text-[#ffd27a] [text-shadow:0_0_3px_#000,0_0_1px_#000] ${unsafe ? "right-6" : "right-2"}`}>
            ★
          </span>
        )}
        {unsafe && <span aria-hidden title="No copy offsite yet" className="absolute top-2 right-2 size-[9px] rounded-full border border-black/40" style={{ background: "var(--grain)" }} />}
      </button>
      {/* A key's way to it is the space bar on the picture itself. */}
      <button
        type="button"
        role="checkbox"
        tabIndex={-1}
        aria-checked={chosen}
        aria-label={`Choose ${card.name}`}
        onClick={(e) => choosing.pick(mark, e.shiftKey)}
        className={`absolute top-0 left-0 flex size-9 items-start justify-start border-0 bg-transparent p-1.5 ${chosen || choosing.active ? "" : "pointer-events-none opacity-0 group-hover:pointer-events-auto group-hover:opacity-100"}`}
      >
        <span aria-hidden className={`flex size-[20px] items-center justify-center rounded border-2 text-[13px] leading-none font-bold ${chosen ? "border-on-accent bg-accent text-on-accent" : "border-white bg-black/35 text-transparent"}`}>
          ✓
        </span>
      </button>
    </li>
  );
}

/** What else belongs to a shot, in a word: what people look for first. */
export function companyWord(company: string[]): string {
  const words = { motion: "moving", raw: "raw", edited: "edited", still: "edited", twin: "JPEG too", video: "video", sidecar: "notes", other: "more" } as Record<string, string>;
  const order = ["motion", "raw", "still", "edited", "twin", "video", "other", "sidecar"];
  const first = order.filter((part) => company.includes(part)).map((part) => words[part] ?? part);
  return [...new Set(first)].slice(0, 2).join(", ");
}

function kindWord(kind: string) {
  return { photo: "no preview", video: "no preview", raw: "raw file", sidecar: "notes to a picture", other: "kept as it is" }[kind] ?? kind;
}
