/** The library as a contact sheet: rows of even height, months as seams of the ground, years as strata on the side. */
import { useEffect, useLayoutEffect, useMemo, useRef, useState, type CSSProperties, type RefObject } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { OriginalCard, Schemas } from "../api/client";
import { useMonth, useMonths } from "../api/hooks";
import { count, counted, duration, month as monthName } from "../format";
import { GAP, heightOf, near, places, rows, shown, type Row } from "../ui/sheet";
import { Empty, Fault, Waiting } from "../ui/states";
import { useBlur } from "../ui/thumb";
import { Detail } from "./detail";

type Month = Schemas["Month"];

export function Library({ keeper }: { keeper: boolean }) {
  const months = useMonths();
  const { id } = useParams();
  const navigate = useNavigate();
  // The order in which the arrow keys go through the pictures: that of the months that have been looked at.
  const [order, setOrder] = useState<Record<string, string[]>>({});
  const all = useMemo(() => (months.data ?? []).flatMap((m) => order[m.month] ?? []), [months.data, order]);
  if (months.isPending) return <Waiting what="the library" full />;
  if (months.isError) return <div className="p-8"><Fault failure={months.error} again={() => void months.refetch()} /></div>;
  const total = months.data.reduce((n, m) => n + m.count, 0);
  const at = id ? all.indexOf(id) : -1;
  const go = (step: number) => {
    const next = all[at + step];
    if (at >= 0 && next) void navigate(`/library/${next}`, { replace: true });
  };
  return (
    <div className="flex">
      <div className="min-w-0 grow px-8 py-[26px] max-lg:px-3 max-lg:py-5">
        <div className="flex flex-wrap items-start justify-between gap-x-5 gap-y-2">
          <h1 className="m-0 text-[29px] leading-tight max-sm:text-[25px]">Library</h1>
          {keeper && (
            <Link to="/library/adopt" className="border-line bg-raised rounded-lg border px-3.5 py-1.5 text-[15px] font-semibold text-ink no-underline hover:border-soft">
              Adopt an old disk
            </Link>
          )}
        </div>
        <p className="mt-1 mb-4 text-[16px] text-soft">
          {total === 0 ? "Nothing has arrived yet." : `${counted(total, "picture")} of yours, in ${counted(months.data.length, "month")}.`}
        </p>
        {total === 0 ? (
          <Empty title="No pictures yet">
            Pair a phone or a computer under Devices. What it sends appears here at once, and in plain folders on the home disk.
          </Empty>
        ) : (
          months.data.map((m, i) => <MonthSheet key={m.month} month={m} first={i < 2} onOrder={(ids) => setOrder((o) => ({ ...o, [m.month]: ids }))} />)
        )}
      </div>
      {months.data.length > 1 && <Strata months={months.data} total={total} />}
      <Detail id={id} onClose={() => void navigate("/library")} onPrevious={at > 0 ? () => go(-1) : undefined} onNext={at >= 0 && at < all.length - 1 ? () => go(1) : undefined} />
    </div>
  );
}

/** Rows are this high; on a phone lower. */
const HEIGHT = 168;
const LOW = 122;
const PHONE = 640;
/** So much wider than high is a picture of which nothing is known yet. */
const USUAL = 1.4;
const NONE: Row[] = [];

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

function MonthSheet({ month, first, onOrder }: { month: Month; first: boolean; onOrder: (ids: string[]) => void }) {
  const seam = useRef<HTMLElement>(null);
  const isNear = useNear(seam, first);
  const width = useWidth(seam);
  const sheet = useMonth(month.month, isNear);
  const { hasNextPage, isFetching, fetchNextPage } = sheet;
  useEffect(() => {
    if (isNear && hasNextPage && !isFetching) void fetchNextPage();
  }, [isNear, hasNextPage, isFetching, fetchNextPage]);
  const cards = sheet.data;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the order changes with the cards alone
  useEffect(() => {
    if (cards) onOrder(cards.map((c) => c.id));
  }, [cards]);
  const height = window.innerWidth < PHONE ? LOW : HEIGHT;
  // What has not come yet keeps about the room that it will need, so that the scroll bar tells the truth.
  const ratios = useMemo(() => (cards ?? []).map((c) => shown(c.width, c.height)), [cards]);
  const laid = useMemo(() => rows(ratios, width, height), [ratios, width, height]);
  const inRow = Math.max(1, Math.round(width / (height * USUAL)));
  const room = heightOf(laid.length + Math.ceil(Math.max(0, month.count - ratios.length) / inRow), height);
  return (
    <section ref={seam} id={`month-${month.month}`} aria-label={monthName(month.month)} className="mb-7 scroll-mt-4">
      <div className="mb-2 flex items-end gap-4">
        <h2 className="m-0 text-[21px] whitespace-nowrap">{monthName(month.month)}</h2>
        <svg aria-hidden className="mb-1.5 h-2 min-w-0 grow" viewBox="0 0 400 8" preserveAspectRatio="none">
          <path d="M0 5 C60 1 110 7 180 4 S310 2 400 5" fill="none" stroke="var(--line)" strokeWidth="3" vectorEffect="non-scaling-stroke" />
        </svg>
        <span className="numbers text-[14px] text-soft">{count(month.count)}</span>
      </div>
      {sheet.isError ? <Fault failure={sheet.error} again={() => void sheet.refetch()} /> : <Rows cards={cards ?? []} ratios={ratios} laid={isNear ? laid : NONE} width={width} height={height} room={room} />}
    </section>
  );
}

/** The rows of a month that are near the screen; the others are room. */
function Rows({ cards, ratios, laid, width, height, room }: { cards: OriginalCard[]; ratios: number[]; laid: Row[]; width: number; height: number; room: number }) {
  const place = useRef<HTMLUListElement>(null);
  const [[from, to], setNear] = useState<Row>([0, 0]);
  // The outside system: how far the page is scrolled, and how high it is: what lies above may take more room than was thought.
  useLayoutEffect(() => {
    if (laid.length === 0) return;
    let asked = 0;
    const look = () => {
      asked = 0;
      const top = place.current?.getBoundingClientRect().top;
      if (top === undefined) return;
      const now = near(laid.length, height, top, window.innerHeight);
      setNear((before) => (before[0] === now[0] && before[1] === now[1] ? before : now));
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
  return (
    <ul ref={place} className="relative m-0 list-none p-0" style={{ height: room }}>
      {laid.slice(from, to).flatMap((row, n) => {
        const top = (from + n) * (height + GAP);
        const lie = places(ratios, row, width, height);
        return cards.slice(...row).map((c, i) => <Thumb key={c.id} card={c} place={{ ...lie[i], top, height }} />);
      })}
    </ul>
  );
}

function Thumb({ card, place }: { card: OriginalCard; place: CSSProperties }) {
  const navigate = useNavigate();
  const placeholder = useBlur(card.placeholder);
  const unsafe = card.layer === "home" || card.layer === "device";
  const label = `${card.name}, ${card.kind}${card.company.length > 0 ? `, with ${companyWord(card.company)}` : ""}${unsafe ? ", no copy offsite yet" : ""}`;
  return (
    <li style={place} className="absolute">
      <button
        type="button"
        onClick={() => void navigate(`/library/${card.id}`)}
        className="relative block size-full overflow-hidden rounded-[5px] border-0 p-0"
        style={{ background: placeholder ? `center / cover url(${placeholder})` : "var(--line)" }}
      >
        <span className="sr-only">{label}</span>
        {card.preview === "ready" ? (
          <img src={`/api/originals/${card.id}/preview/small`} alt="" loading="lazy" decoding="async" className="size-full object-cover" />
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
        {unsafe && <span aria-hidden title="No copy offsite yet" className="absolute top-2 right-2 size-[9px] rounded-full border border-black/40" style={{ background: "var(--grain)" }} />}
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

/** Years as strata whose thickness is their share. */
function Strata({ months, total }: { months: Month[]; total: number }) {
  const years = useMemo(() => {
    const sums = new Map<string, { count: number; first: string }>();
    for (const m of months) {
      const year = m.month.slice(0, 4);
      const sum = sums.get(year);
      sums.set(year, { count: (sum?.count ?? 0) + m.count, first: sum?.first ?? m.month });
    }
    return [...sums];
  }, [months]);
  const colours = ["var(--loam)", "var(--clay)", "var(--rock)"];
  return (
    <nav aria-label="Years" className="sticky top-0 flex h-screen w-[58px] shrink-0 flex-col py-6 pr-4 max-lg:hidden">
      {years.map(([year, { count: n, first }], i) => (
        <a
          key={year}
          href={`#month-${first}`}
          aria-label={`${year}, ${counted(n, "picture")}`}
          className="flex min-h-[26px] items-start justify-center rounded-[3px] pt-1 text-[12.5px] font-semibold text-white no-underline hover:brightness-110"
          style={{ background: colours[i % 3], flexGrow: Math.max(n / total, 0.03), marginBottom: 2 }}
        >
          {year}
        </a>
      ))}
    </nav>
  );
}
