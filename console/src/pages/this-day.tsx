/** What was taken on this day in the years before: a strip above the library. Nothing there, nothing shown. */
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useOnDay } from "../api/hooks";
import { addressOf, shown } from "../ui/sheet";
import { Button } from "../ui/parts";

const HEIGHT = 112;
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long" });

/** The line that finds it. */
export const thisDay = (today: Date) => `${day.format(today)} before ${today.getFullYear()}`;

/** "2019", "2019 and 2023", "2019, 2021 and 2023". */
export function yearsOf(taken: readonly string[]): string {
  const years = [...new Set(taken.map((t) => t.slice(0, 4)))].sort();
  const last = years.pop() ?? "";
  return years.length > 0 ? `${years.join(", ")} and ${last}` : last;
}

export function ThisDay() {
  const navigate = useNavigate();
  const [today] = useState(() => new Date());
  const line = thisDay(today);
  const found = useOnDay(line);
  const pictures = found.data?.originals ?? [];
  const first = pictures[0];
  if (!first) return null;
  const more = found.data?.next != null;
  return (
    <section aria-labelledby="this-day" className="mb-6">
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h2 id="this-day" className="m-0 text-[21px]">
          {day.format(today)}, years ago
        </h2>
        <Link to={addressOf("/library", line)} className="text-[14.5px] text-soft hover:text-ink">
          {more ? "All of them" : `In ${yearsOf(pictures.map((p) => p.taken_local))}`}
        </Link>
        <Button className="ml-auto" onClick={() => void navigate(addressOf(`/library/${first.id}`, line), { state: { sheet: true, play: true } })}>
          Play
        </Button>
      </div>
      <ul className="m-0 flex list-none gap-1.5 overflow-x-auto p-0 pb-1 [scrollbar-color:var(--line)_transparent] [scrollbar-width:thin]">
        {pictures.map((p, n) => (
          <li key={p.id} className="relative shrink-0" style={{ height: HEIGHT, width: shown(p.width, p.height) * HEIGHT }}>
            <Link to={addressOf(`/library/${p.id}`, line)} state={{ sheet: true }} className="block size-full overflow-hidden rounded-[5px] bg-(--line)">
              {p.preview === "ready" ? <img src={`/api/originals/${p.id}/preview/small`} alt={`${p.name}, ${p.taken_local.slice(0, 4)}`} loading="lazy" decoding="async" className="size-full object-cover" /> : <span className="block truncate p-2 text-[13px] text-ink">{p.name}</span>}
            </Link>
            {p.taken_local.slice(0, 4) !== pictures[n - 1]?.taken_local.slice(0, 4) && (
              <span aria-hidden className="pointer-events-none absolute bottom-1.5 left-1.5 rounded bg-black/65 px-1.5 text-[12.5px] font-semibold text-white">
                {p.taken_local.slice(0, 4)}
              </span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
