/** What was taken on this day in the years before: a strip above the library. Nothing there, nothing shown. */
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useSome } from "../api/hooks";
import { Button } from "../ui/parts";
import { addressOf } from "../ui/sheet";
import { Strip } from "../ui/strip";

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
  const among = { find: thisDay(today) };
  const found = useSome(among, 40);
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
        <Link to={addressOf(among)} className="text-[14.5px] text-soft hover:text-ink">
          {more ? "All of them" : `In ${yearsOf(pictures.map((p) => p.taken_local))}`}
        </Link>
        <Button className="ml-auto" onClick={() => void navigate(addressOf(among, { picture: first.id }), { state: { sheet: true, play: true } })}>
          Play
        </Button>
      </div>
      <Strip among={among} pictures={pictures} height={HEIGHT} mark={(p, before) => (p.taken_local.slice(0, 4) !== before?.taken_local.slice(0, 4) ? p.taken_local.slice(0, 4) : undefined)} />
    </section>
  );
}
