/** The years of the library as strata on its side, each as thick as its share: pointed at, it says the month; dragged along, one travels by it. */
import { useMemo, useRef, useState, type PointerEvent } from "react";
import type { Schemas } from "../api/client";
import { counted, month as monthName } from "../format";
import { monthAt } from "./sheet";

type Month = Schemas["Month"];
type Year = { year: string; count: number; months: Month[] };

const colours = ["var(--loam)", "var(--clay)", "var(--rock)"];

export function Strata({ months, total, go }: { months: Month[]; total: number; go: (month: string) => void }) {
  const rail = useRef<HTMLElement>(null);
  const [under, setUnder] = useState<{ month: Month; top: number }>();
  const years = useMemo(() => {
    const all: Year[] = [];
    for (const m of months) {
      const last = all[all.length - 1];
      if (last?.year === m.month.slice(0, 4)) {
        last.count += m.count;
        last.months.push(m);
      } else all.push({ year: m.month.slice(0, 4), count: m.count, months: [m] });
    }
    return all;
  }, [months]);
  const point = (e: PointerEvent<HTMLElement>) => {
    const strata = [...(rail.current?.querySelectorAll("a") ?? [])].map((a) => a.getBoundingClientRect());
    const found = strata.findIndex((box) => e.clientY < box.bottom);
    const n = found < 0 ? strata.length - 1 : found;
    const [year, box] = [years[n], strata[n]];
    if (!year || !box || !rail.current) return;
    const month = monthAt(year.months, (e.clientY - box.top) / box.height);
    if (!month) return;
    const lies = rail.current.getBoundingClientRect();
    setUnder({ month, top: Math.min(lies.height - 40, Math.max(20, e.clientY - lies.top)) });
    if (e.buttons & 1) go(month.month);
  };
  const press = (e: PointerEvent<HTMLElement>) => {
    e.currentTarget.setPointerCapture(e.pointerId);
    point(e);
  };
  return (
    <nav
      ref={rail}
      aria-label="Years"
      onPointerDown={press}
      onPointerMove={point}
      onPointerUp={(e) => e.pointerType !== "mouse" && setUnder(undefined)}
      onPointerLeave={() => setUnder(undefined)}
      className="sticky top-0 flex h-dvh w-[58px] shrink-0 touch-none flex-col py-6 pr-4 select-none max-lg:w-[40px] max-lg:py-3 max-lg:pr-1.5"
    >
      {years.map(({ year, count: n, months: [first] }, i) => (
        <a
          key={year}
          href={`#month-${first?.month}`}
          draggable={false}
          onClick={(e) => {
            e.preventDefault();
            // A finger or a mouse has gone to the month that it lies on; the keyboard goes to the year.
            if (e.detail === 0 && first) go(first.month);
          }}
          aria-label={`${year}, ${counted(n, "picture")}`}
          className="flex min-h-[26px] items-start justify-center rounded-[3px] pt-1 text-[12.5px] font-semibold text-white no-underline hover:brightness-110"
          style={{ background: colours[i % 3], flexGrow: Math.max(n / total, 0.03), marginBottom: 2 }}
        >
          <span className="max-lg:hidden">{year}</span>
          <span className="lg:hidden">’{year.slice(2)}</span>
        </a>
      ))}
      {under && (
        <p
          aria-hidden
          className="border-line bg-raised pointer-events-none absolute right-full m-0 mr-1 -translate-y-1/2 rounded-lg border px-3 py-1 text-[14.5px] whitespace-nowrap text-ink shadow-sm"
          style={{ top: under.top }}
        >
          <b className="font-semibold">{monthName(under.month.month)}</b> <span className="numbers text-soft">{counted(under.month.count, "picture")}</span>
        </p>
      )}
    </nav>
  );
}
