/** The last two weeks: what left in each hour, and what was at home alone. Bars that can be read, and named for who cannot see them. */
import type { Schemas } from "../api/client";
import { useHistory } from "../api/hooks";
import { count, exact, size } from "../format";
import { Fault, Waiting } from "../ui/states";

const HOUR = 3_600_000;

export function HistoryView() {
  const history = useHistory();
  if (history.isPending) return <Waiting what="the last weeks" />;
  if (history.isError) return <Fault failure={history.error} again={() => void history.refetch()} />;
  const { exposure, traffic } = history.data;
  if (exposure.length === 0 && traffic.length === 0) return null;
  const times = [...exposure, ...traffic].map((h) => new Date(h.hour).getTime());
  // From the first hour that is known on, but no less than a day: a house of three hours is no wall of bars.
  const until = Math.max(...times);
  const from = Math.min(Math.min(...times), until - 23 * HOUR);
  const hours = Math.round((until - from) / HOUR) + 1;
  const stores = [...new Set(traffic.map((t) => t.store))];
  return (
    <section className="border-line mt-10 border-t pt-5" aria-labelledby="history">
      <h2 id="history" className="m-0 text-[23px]">
        {hours > 48 ? `The last ${Math.round(hours / 24)} days` : "The last day"}
      </h2>
      <div className="mt-3 grid gap-x-10 gap-y-6 md:grid-cols-2">
        <Bars title="Only at home" unit={(n) => `${count(n)} ${n === 1 ? "file" : "files"}`} colour="var(--ochre)" from={from} hours={hours} rows={exposure.map((e) => [e.hour, e.originals, said(e)])} />
        {stores.map((store) => {
          const rows = traffic.filter((t) => t.store === store);
          return <Bars key={store} title={`Sent to ${rows[0]?.name ?? "a store"}`} unit={(n) => `${size(n)} in an hour`} colour="var(--clay)" from={from} hours={hours} rows={rows.map((t) => [t.hour, t.bytes, size(t.bytes)])} />;
        })}
      </div>
    </section>
  );
}

function said(e: Schemas["ExposedHour"]): string {
  if (e.originals === 0) return "nothing only at home";
  const oldest = e.oldest_hours === 0 ? "" : `, the oldest for ${e.oldest_hours === 1 ? "an hour" : `${count(e.oldest_hours)} hours`}`;
  return `${count(e.originals)} only at home, ${size(e.bytes)}${oldest}`;
}

function Bars({ title, unit, colour, from, hours, rows }: { title: string; unit: (n: number) => string; colour: string; from: number; hours: number; rows: [string, number, string][] }) {
  const most = Math.max(...rows.map(([, n]) => n), 0);
  const day = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short", ...(hours <= 48 && { hour: "2-digit", minute: "2-digit" }) });
  const width = 480;
  const step = width / hours;
  return (
    <figure className="m-0">
      <figcaption className="flex justify-between gap-4 text-[14px] text-soft">
        <span className="font-semibold text-ink">{title}</span>
        <span className="numbers">{most === 0 ? "none" : `at most ${unit(most)}`}</span>
      </figcaption>
      <svg viewBox={`0 0 ${width} 92`} className="mt-1 block w-full" role="img" aria-label={`${title}: ${most === 0 ? "none" : `at most ${unit(most)}`} between ${day.format(from)} and ${day.format(from + (hours - 1) * HOUR)}`}>
        {rows.map(([hour, n, text]) => {
          const at = Math.round((new Date(hour).getTime() - from) / HOUR);
          const height = most === 0 ? 0 : Math.max(n > 0 ? 1.5 : 0, (86 * n) / most);
          return (
            <rect key={hour} x={at * step + step * 0.1} y={90 - height} width={Math.max(1, step * 0.8)} height={height} fill={colour}>
              <title>{`${exact(hour)}: ${text}`}</title>
            </rect>
          );
        })}
        <line x1="0" x2={width} y1="91" y2="91" stroke="var(--line)" strokeWidth="1.5" />
      </svg>
      <div className="flex justify-between text-[13px] text-soft">
        <span>{day.format(from)}</span>
        <span>now</span>
      </div>
    </figure>
  );
}
