/** When, and how fast, copies go to a store: hours with a pace of their own, and what holds outside of them. */
import { useState, type FormEvent } from "react";
import { ask, type Schemas, type Store } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { clock, size } from "../format";
import { Select } from "../ui/choose";
import { Button, Dialog, TextButton } from "../ui/parts";
import { Fault } from "../ui/states";

type Week = Schemas["StoreWeek"];
type Hours = Schemas["StoreWindow"];
type Pace = Schemas["StorePace"];

const WORKDAYS = ["mon", "tue", "wed", "thu", "fri"];
const WEEKEND = ["sat", "sun"];
const ALL: [string, string][] = [["mon", "Mon"], ["tue", "Tue"], ["wed", "Wed"], ["thu", "Thu"], ["fri", "Fri"], ["sat", "Sat"], ["sun", "Sun"]];
const FULL: Pace = { may: "full", rate: null };
const REST: Pace = { may: "rest", rate: null };
const TRICKLE: Pace = { may: "limited", rate: 500_000 };
const NIGHT: Hours = { days: [], from: "23:00", until: "06:00", pace: FULL };

/** Weeks that many houses want, to begin with. */
const READY: [string, Week][] = [
  ["Always", { windows: [], otherwise: FULL }],
  ["At night only", { windows: [NIGHT], otherwise: REST }],
  ["Fast at night, slow by day", { windows: [NIGHT], otherwise: TRICKLE }],
];

/** What holds just now, in a sentence. */
export function paceNow(s: Store): string {
  const end = s.pace_until ? ` until ${clock(s.pace_until)}` : "";
  if (s.pace.may === "rest") return `Nothing is sent there${end}.`;
  if (s.pace.may === "limited") return `At most ${size(s.pace.rate ?? 0)}/s${end}.`;
  return end ? `As fast as possible${end}.` : "";
}

export function WeekDialog({ store, onClose }: { store: Store; onClose: () => void }) {
  const [week, setWeek] = useState<Week>(store.week);
  const save = useDo(() => ask(`/api/stores/${store.id}`, "PATCH", { week }), [keys.stores, keys.overview]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate(undefined, { onSuccess: onClose });
  };
  const change = (n: number, hours: Hours) => setWeek({ ...week, windows: week.windows.map((w, i) => (i === n ? hours : w)) });
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={`When copies go to ${store.name}`} wide>
      <div className="mb-4 flex flex-wrap gap-2" role="group" aria-label="Begin with">
        {READY.map(([name, ready]) => (
          <Button key={name} onClick={() => setWeek(ready)}>
            {name}
          </Button>
        ))}
      </div>
      <form onSubmit={submit}>
        {week.windows.map((w, n) => (
          <HoursRow key={n} hours={w} onChange={(h) => change(n, h)} onRemove={() => setWeek({ ...week, windows: week.windows.filter((_, i) => i !== n) })} />
        ))}
        <div className="border-line flex flex-wrap items-center gap-3 border-t py-3">
          <span className="font-semibold">{week.windows.length === 0 ? "At all hours" : "At all other hours"}</span>
          <PaceChoice label="Pace at other hours" pace={week.otherwise} onChange={(otherwise) => setWeek({ ...week, otherwise })} />
        </div>
        <p className="mt-1 mb-4 text-[14px] text-soft">
          Where hours overlap, the first line counts. Times are those of this server’s clock. A file that is being sent when a pause begins is sent to its end.
        </p>
        {save.isError && <Fault failure={save.error} />}
        <div className="flex flex-wrap gap-2">
          <Button look="strong" type="submit" disabled={save.isPending}>
            Save
          </Button>
          <Button onClick={() => setWeek({ ...week, windows: [...week.windows, NIGHT] })}>Add hours</Button>
        </div>
      </form>
    </Dialog>
  );
}

const field = "border-line bg-raised rounded-lg border px-2 py-1.5 text-[15px] text-ink";

function HoursRow({ hours: h, onChange, onRemove }: { hours: Hours; onChange: (h: Hours) => void; onRemove: () => void }) {
  const toggle = (day: string) => {
    const chosen = h.days.length === 0 ? ALL.map(([d]) => d) : h.days;
    const days = ALL.map(([d]) => d).filter((d) => (d === day ? !chosen.includes(d) : chosen.includes(d)));
    // No day at all is no window; all of them are every day.
    if (days.length > 0) onChange({ ...h, days: days.length === 7 ? [] : days });
  };
  return (
    <fieldset className="border-line m-0 border-0 border-t py-3">
      <legend className="sr-only">{`${daysWords(h.days)}, ${h.from} to ${h.until}`}</legend>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <input type="time" aria-label="From" required className={field} value={h.from} onChange={(e) => onChange({ ...h, from: e.target.value })} />
        <span className="text-soft">to</span>
        <input type="time" aria-label="To" required className={field} value={h.until} onChange={(e) => onChange({ ...h, until: e.target.value })} />
        <PaceChoice label="Pace in these hours" pace={h.pace} onChange={(pace) => onChange({ ...h, pace })} />
        <TextButton tone="soft" onClick={onRemove} className="ml-auto text-[14.5px]">
          Remove
        </TextButton>
      </div>
      <div className="mt-2 flex flex-wrap gap-1" role="group" aria-label="Days">
        {ALL.map(([day, name]) => {
          const on = h.days.length === 0 || h.days.includes(day);
          return (
            <button
              key={day}
              type="button"
              aria-pressed={on}
              onClick={() => toggle(day)}
              className={`rounded-md border px-2 py-0.5 text-[14px] ${on ? "border-accent bg-accent text-on-accent" : "border-line bg-raised text-soft"}`}
            >
              {name}
            </button>
          );
        })}
        <span className="self-center pl-2 text-[14px] text-soft">{daysWords(h.days)}</span>
      </div>
    </fieldset>
  );
}

function daysWords(days: string[]): string {
  const are = (list: string[]) => days.length === list.length && list.every((d) => days.includes(d));
  if (days.length === 0) return "every day";
  if (are(WORKDAYS)) return "on workdays";
  if (are(WEEKEND)) return "at the weekend";
  return "";
}

const PACES = [
  ["full", "as fast as possible"],
  ["limited", "at most"],
  ["rest", "nothing"],
] as const;

function PaceChoice({ label, pace, onChange }: { label: string; pace: Pace; onChange: (p: Pace) => void }) {
  return (
    <span className="flex flex-wrap items-center gap-2">
      <Select label={label} value={pace.may} choices={PACES} onChange={(may) => onChange(may === "limited" ? TRICKLE : may === "rest" ? REST : FULL)} />
      {pace.may === "limited" && (
        <label className="flex items-center gap-2">
          <input
            type="number"
            aria-label="Kilobytes per second"
            min={32}
            max={10_000_000}
            required
            className={`${field} w-[100px] text-right`}
            value={Math.round((pace.rate ?? 0) / 1000)}
            onChange={(e) => onChange({ may: "limited", rate: Math.max(0, Math.round(Number(e.target.value))) * 1000 })}
          />
          kB/s
        </label>
      )}
    </span>
  );
}
