/** Pictures as a contact sheet, of the library or of an album: rows of even height, months as seams of the ground, years as strata on the side. */
import { use, useEffect, useEffectEvent, useRef, useState, type KeyboardEvent, type ReactNode } from "react";
import { useLocation, useNavigate, useParams } from "react-router";
import type { Album, Schemas } from "../api/client";
import { useMonths } from "../api/hooks";
import { everything, extended, isChosen, NOTHING, toggled, withMonth, type Choice, type Mark } from "../ui/choice";
import { ChoosingContext, markOf, useDrag, type Choosing } from "../ui/choosing";
import { FindLine } from "../ui/find";
import { Button } from "../ui/parts";
import { addressOf, pageOf, spotOf, told, type Among } from "../ui/sheet";
import { Fault, Waiting } from "../ui/states";
import { Strata } from "../ui/strata";
import { next, whenThere } from "../ui/walk";
import { Chosen } from "./chosen";
import { Detail } from "./detail";
import { MonthSheet } from "./sheet";

type Month = Schemas["Month"];

/** In an album with so few pictures nobody looks for one with words. */
const FEW = 30;

interface BrowseProps {
  among: Among;
  title: string;
  /** Above the title: the way back. */
  back?: ReactNode;
  /** Beside it, after "Choose pictures". */
  actions?: ReactNode;
  /** Below it: how many there are. */
  says: (total: number, months: Month[]) => ReactNode;
  /** What else can be done with what is looked for. */
  also?: ReactNode;
  /** Above the pictures, where all of them are shown from the first. */
  above?: ReactNode;
  /** In the place of pictures, where there is none. */
  empty: ReactNode;
  /** What can be done with what is chosen, of an album. */
  album?: Album | undefined;
  /** Its pictures are looked at one after the other as it is arranged. */
  arranged?: boolean;
}

/** Pictures as a contact sheet, with what is found, chosen and opened of them. */
export function Browse({ among, title, back, actions, says, also, above, empty, album, arranged = false }: BrowseProps) {
  const { id } = useParams();
  const navigate = useNavigate();
  const { search, state } = useLocation();
  const { find } = among;
  const months = useMonths(among);
  // Where the address says that one was, when the page is opened.
  const [arrive] = useState(() => spotOf(new URLSearchParams(search).get("at")));
  useAddress(id === undefined && months.isSuccess, pageOf(among));
  const typed = useYears(id === undefined ? (months.data ?? []) : []);
  const { choosing, begin, end, all, begun, chosen, choose } = useChoice(find, months.data ?? [], id === undefined);
  if (months.isPending) return <Waiting what="the pictures" full />;
  if (months.isError) return <div className="p-8"><Fault failure={months.error} again={() => void months.refetch()} /></div>;
  // Until it is there, what is there is of what was looked for before.
  const looking = months.isPlaceholderData;
  const total = months.data.reduce((n, m) => n + m.count, 0);
  // Back to where it was chosen, if it was chosen here.
  const close = () => void (fromSheet(state) ? navigate(-1) : navigate(addressOf(among)));
  const look = (line: string) => void navigate(addressOf({ ...among, find: line }));
  return (
    <div className="flex">
      <div className="min-w-0 grow px-8 py-[26px] max-lg:px-3 max-lg:py-5">
        {back && <p className="m-0 mb-1">{back}</p>}
        <div className="flex flex-wrap items-start justify-between gap-x-5 gap-y-2">
          <h1 className="m-0 min-w-0 text-[29px] leading-tight break-words max-sm:text-[25px]">{title}</h1>
          <span className="flex flex-wrap gap-2.5">
            {total > 0 && !looking && (
              <Button aria-pressed={choosing.active} onClick={choosing.active ? end : begin}>
                {choosing.active ? "Stop choosing" : "Choose pictures"}
              </Button>
            )}
            {actions}
          </span>
        </div>
        {(total > FEW || find || looking || !among.album) && <FindLine among={among} look={look} also={also} />}
        <div className="mt-1 mb-4 text-[16px] text-soft">{looking ? "Looking …" : says(total, months.data)}</div>
        {looking ? (
          <Waiting what="what you look for" />
        ) : total === 0 && !find ? (
          empty
        ) : (
          <>
            {!find && !arrive && above}
            <ChoosingContext value={choosing}>
              <Sheet months={months.data.map((m) => m.month)} choose={choose} begun={begun}>
                {months.data.map((m, i) => {
                  const at = arrive?.month === m.month ? arrive.picture : undefined;
                  return <MonthSheet key={m.month} month={m} among={among} first={i < 2 || at !== undefined} arrive={at} total={total} />;
                })}
              </Sheet>
            </ChoosingContext>
          </>
        )}
        <Chosen choice={chosen} among={among} album={album} total={total} all={all} clear={end} />
      </div>
      {!looking && months.data.length > 1 && <Strata months={months.data} total={total} go={goTo} />}
      {typed && (
        <p role="status" className="border-line bg-raised fixed bottom-6 left-1/2 m-0 -translate-x-1/2 rounded-lg border px-4 py-2 text-[17px] text-ink shadow-md">
          {typed}
        </p>
      )}
      <Detail
        id={id}
        among={among}
        arranged={arranged}
        onClose={close}
        onGo={(to) => void navigate(addressOf(among, { picture: to }), { replace: true, state })}
        plays={saidOf(state).play === true}
        onPlay={(play) => id && void navigate(addressOf(among, { picture: id }), { replace: true, state: { ...saidOf(state), play } })}
      />
    </div>
  );
}

/** What a page was told on the way to it. */
const saidOf = (state: unknown): { sheet?: boolean; play?: boolean } => (typeof state === "object" && state !== null ? state : {});
const fromSheet = (state: unknown) => saidOf(state).sheet === true;

const pictures = () => [...document.querySelectorAll<HTMLElement>("[data-at]")];

/** Puts a month at the upper edge of the screen. */
function goTo(month: string) {
  document.getElementById(`month-${month}`)?.scrollIntoView();
}

/** Goes to one end of the library, and finds the picture there; none until it has come. */
function edge(first: boolean): HTMLElement | null | undefined {
  window.scrollTo(0, first ? 0 : document.documentElement.scrollHeight);
  const months = document.querySelectorAll("section[id^=month-]");
  const drawn = months[first ? 0 : months.length - 1]?.querySelectorAll("li");
  const found = drawn?.[first ? 0 : drawn.length - 1]?.querySelector<HTMLElement>("[data-at]");
  const box = found?.getBoundingClientRect();
  return box && box.bottom > 0 && box.top < window.innerHeight ? found : undefined;
}

/** What is chosen, of what was looked for: with another line, nothing is. */
function useChoice(find: string, months: Month[], active: boolean) {
  const [state, setState] = useState<{ find: string; choice: Choice; on: boolean }>({ find, choice: NOTHING, on: false });
  const last = useRef<Mark>(undefined);
  const chosen = state.find === find ? state.choice : NOTHING;
  const names = months.map((m) => m.month);
  // Two clicks may come before the page has been drawn in between.
  const change = (to: (choice: Choice) => Choice, on?: boolean) => setState((was) => ({ find, choice: to(was.find === find ? was.choice : NOTHING), on: on ?? was.on }));
  const choose = (choice: Choice) => change(() => choice);
  const pick = (mark: Mark, to = false) => {
    const from = last.current;
    change((choice) => (to && from ? extended(choice, from, mark, names) : toggled(choice, mark)));
    if (!to) last.current = mark;
  };
  const end = () => {
    last.current = undefined;
    change(() => NOTHING, false);
  };
  const all = () => choose(everything(names));
  const press = useEffectEvent((e: globalThis.KeyboardEvent) => {
    if (e.target instanceof HTMLElement && e.target.closest("input, textarea, select, [role=dialog], [role=alertdialog], [role=listbox]")) return;
    if (e.key === "Escape" && !e.defaultPrevented && (chosen.size > 0 || state.on)) end();
    if (e.key === "a" && (e.ctrlKey || e.metaKey) && !e.shiftKey && !e.altKey && names.length > 0) {
      e.preventDefault();
      all();
    }
  });
  // The outside system: the keyboard, wherever on the page one is.
  useEffect(() => {
    if (!active) return;
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [active]);
  const choosing: Choosing = {
    choice: chosen,
    active: state.on || chosen.size > 0,
    pick,
    pickMonth: (month, on) => change((choice) => withMonth(choice, month, on)),
  };
  const begun = (mark: Mark) => {
    last.current = mark;
    change((choice) => (isChosen(choice, mark) ? choice : toggled(choice, mark)));
  };
  return { choosing, chosen, choose, begun, begin: () => change((choice) => choice, true), end, all };
}

interface SheetProps {
  children: React.ReactNode;
  months: string[];
  choose: (choice: Choice) => void;
  begun: (mark: Mark) => void;
}

/** The months, and what mouse, fingers and keys do among their pictures. */
function Sheet({ children, months, choose, begun }: SheetProps) {
  const end = useRef<() => void>(undefined);
  const part = useRef<HTMLDivElement>(null);
  const { choice, pick } = use(ChoosingContext) as Choosing;
  const frame = useDrag(part, choice, months, choose, begun);
  const press = (e: KeyboardEvent<HTMLElement>) => {
    const all = pictures();
    const from = all.indexOf((e.target as HTMLElement).closest<HTMLElement>("[data-at]") as HTMLElement);
    if (from < 0 || e.altKey || e.ctrlKey || e.metaKey) return;
    const own = markOf(all[from]);
    if (e.key === " ") {
      e.preventDefault();
      if (own) pick(own, e.shiftKey);
      return;
    }
    if (e.shiftKey && !e.key.startsWith("Arrow")) return;
    end.current?.();
    if (e.key === "Home" || e.key === "End") {
      e.preventDefault();
      end.current = whenThere(() => edge(e.key === "Home"), (found) => found.focus({ preventScroll: true }));
      return;
    }
    const to = next(all.map((one) => one.getBoundingClientRect()), from, e.key);
    const found = to === undefined ? undefined : all[to];
    if (!found) return;
    e.preventDefault();
    const other = markOf(found);
    if (e.shiftKey && own && other) choose(extended(choice, own, other, months));
    found.focus({ preventScroll: true });
    found.scrollIntoView({ block: "nearest" });
  };
  // The space bar chooses; a browser would press the button with it as well.
  const release = (e: KeyboardEvent<HTMLElement>) => {
    if (e.key === " " && (e.target as HTMLElement).closest("[data-at]")) e.preventDefault();
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the pictures in it are buttons; the keys go from one to another
    <div ref={part} onKeyDown={press} onKeyUp={release} className="[overflow-anchor:none]">
      {children}
      {frame && <div aria-hidden className="border-accent bg-accent/15 pointer-events-none fixed z-10 rounded-sm border" style={frame} />}
    </div>
  );
}

/** Keeps the address at what is at the upper edge of the screen, so that going back, or a link that was kept, leads there. */
function useAddress(active: boolean, page: string) {
  // The outside system: how far the page is scrolled, and the address.
  useEffect(() => {
    if (!active) return;
    let timer: ReturnType<typeof setTimeout> | undefined;
    const note = () => {
      timer = undefined;
      if (window.location.pathname !== page) return;
      const atTop = window.scrollY < 80;
      const spots = atTop ? [] : [...document.querySelectorAll<HTMLElement>("[data-spot]")];
      const first = spots.find((one) => one.getBoundingClientRect().bottom > 0);
      // How the month lies that one has come to is not known yet: a moment later it is.
      if (!atTop && !first) return soon();
      const spot = spotOf(first?.dataset.spot ?? null);
      const query = new URLSearchParams(window.location.search);
      query.delete("at");
      if (spot) query.set("at", told(spot));
      const said = query.toString();
      const address = said ? `${page}?${said}` : page;
      if (window.location.pathname + window.location.search !== address) window.history.replaceState(window.history.state, "", address);
    };
    const soon = () => {
      timer ??= setTimeout(note, 250);
    };
    window.addEventListener("scroll", soon, { passive: true });
    return () => {
      clearTimeout(timer);
      window.removeEventListener("scroll", soon);
    };
  }, [active, page]);
}

const FOUR = 4;

/** Four digits lead to a year. Says what was typed so far, or that there is no such year. */
function useYears(months: Month[]): string | undefined {
  const [said, setSaid] = useState<string>();
  // The outside system: the keyboard, wherever on the page one is.
  useEffect(() => {
    if (months.length === 0) return;
    let digits = "";
    let timer: ReturnType<typeof setTimeout> | undefined;
    let end: (() => void) | undefined;
    const say = (what: string | undefined, last = 1800) => {
      clearTimeout(timer);
      setSaid(what);
      timer = what
        ? setTimeout(() => {
            digits = "";
            setSaid(undefined);
          }, last)
        : undefined;
    };
    const press = (e: globalThis.KeyboardEvent) => {
      const writes = e.target instanceof HTMLElement && e.target.closest("input, textarea, select, [role=dialog], [role=alertdialog]");
      if (writes || e.altKey || e.ctrlKey || e.metaKey) return;
      if (!/^\d$/.test(e.key)) {
        if (digits) say(undefined);
        digits = "";
        return;
      }
      digits += e.key;
      if (digits.length < FOUR) return say(`Year ${digits.padEnd(FOUR, "·")}`);
      const year = digits;
      digits = "";
      const month = months.find((m) => m.month.startsWith(year))?.month;
      if (!month) return say(`No pictures from ${year}`);
      say(undefined);
      goTo(month);
      end?.();
      end = whenThere(() => document.querySelector<HTMLElement>(`[data-at^="${month}."]`), (found) => found.focus({ preventScroll: true }));
    };
    window.addEventListener("keydown", press);
    return () => {
      clearTimeout(timer);
      end?.();
      window.removeEventListener("keydown", press);
    };
  }, [months]);
  return said;
}
