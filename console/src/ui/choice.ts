/**
 * What is chosen in the library, however many pictures that are: of each month stretches, and pictures one by one. A stretch knows its ends and
 * not what lies between, so a choice of 40,000 pictures is as small as one of two.
 */
import type { Schemas } from "../api/client";
import type { Among } from "./sheet";

/** A picture, and when it was taken: `taken_local` of its card. These say where it lies. */
export type Mark = { id: string; taken: string };

/** Pictures of a month that lie behind each other, both ends with it; without one, from the month's own. */
type Stretch = { newest?: Mark | undefined; oldest?: Mark | undefined };

interface OfMonth {
  stretches: readonly Stretch[];
  /** One by one, outside of all stretches. */
  pictures: ReadonlySet<string>;
  /** Not those, though they are in a stretch. */
  except: ReadonlyMap<string, Mark>;
}

/** By months, `2026-04`. */
export type Choice = ReadonlyMap<string, OfMonth>;

export const NOTHING: Choice = new Map();
const EMPTY: OfMonth = { stretches: [], pictures: new Set(), except: new Map() };
const WHOLE: OfMonth = { ...EMPTY, stretches: [{}] };

const monthOf = (mark: Mark) => mark.taken.slice(0, 7);

/** Whether one lies behind the other: it was taken before. As texts, times of one month are in order. */
const isOlder = (a: Mark, b: Mark) => a.taken < b.taken || (a.taken === b.taken && a.id < b.id);

const isIn = ({ newest, oldest }: Stretch, mark: Mark) => !(newest && isOlder(newest, mark)) && !(oldest && isOlder(mark, oldest));

function changed(choice: Choice, month: string, now: OfMonth): Choice {
  const next = new Map(choice);
  if (now.stretches.length > 0 || now.pictures.size > 0) next.set(month, now);
  else next.delete(month);
  return next;
}

const without = (set: ReadonlySet<string>, id: string) => new Set([...set].filter((one) => one !== id));

/** Of those that were taken out, the ones that still are. */
const left = (except: ReadonlyMap<string, Mark>, still: (mark: Mark) => boolean) => new Map([...except].filter(([, mark]) => still(mark)));

export function isChosen(choice: Choice, mark: Mark): boolean {
  const of = choice.get(monthOf(mark));
  return of !== undefined && (of.pictures.has(mark.id) || (!of.except.has(mark.id) && of.stretches.some((s) => isIn(s, mark))));
}

/** Chooses one picture, or not any more. */
export function toggled(choice: Choice, mark: Mark): Choice {
  const of = choice.get(monthOf(mark)) ?? EMPTY;
  const inStretch = of.stretches.some((s) => isIn(s, mark));
  if (isChosen(choice, mark)) {
    return changed(choice, monthOf(mark), { ...of, pictures: without(of.pictures, mark.id), except: inStretch ? new Map([...of.except, [mark.id, mark]]) : of.except });
  }
  return changed(choice, monthOf(mark), inStretch ? { ...of, except: left(of.except, (m) => m.id !== mark.id) } : { ...of, pictures: new Set([...of.pictures, mark.id]) });
}

/** Chooses these as well. */
export const added = (choice: Choice, marks: Iterable<Mark>): Choice => [...marks].reduce((so, mark) => (isChosen(so, mark) ? so : toggled(so, mark)), choice);

/** Chooses everything from one picture to another as well; `months`: all that there are, newest first. */
export function extended(choice: Choice, one: Mark, other: Mark, months: readonly string[]): Choice {
  const [newest, oldest] = isOlder(one, other) ? [other, one] : [one, other];
  const [first, last] = [monthOf(newest), monthOf(oldest)];
  return months
    .filter((month) => month <= first && month >= last)
    .reduce((so, month) => {
      const stretch: Stretch = { ...(month === first && { newest }), ...(month === last && { oldest }) };
      const of = so.get(month) ?? EMPTY;
      return changed(so, month, { ...of, stretches: [...of.stretches, stretch], except: left(of.except, (mark) => !isIn(stretch, mark)) });
    }, choice);
}

/** How much of a month is chosen. */
export function ofMonth(choice: Choice, month: string): boolean | "indeterminate" {
  const of = choice.get(month);
  if (!of) return false;
  return of.except.size === 0 && of.stretches.some((s) => !s.newest && !s.oldest) ? true : "indeterminate";
}

/** Chooses a whole month, or nothing of it. */
export const withMonth = (choice: Choice, month: string, on: boolean): Choice => changed(choice, month, on ? WHOLE : EMPTY);

/** Chooses whole months. */
export const everything = (months: readonly string[]): Choice => new Map(months.map((month) => [month, WHOLE]));

/** The same as the server is asked for it. */
export function asked(choice: Choice, { find, album }: Among): Schemas["Choice"] {
  const spot = (mark?: Mark) => (mark ? { taken_local: mark.taken, id: mark.id } : null);
  return {
    ...(find && { find }),
    ...(album && { album }),
    months: [...choice].map(([month, of]) => ({
      month,
      stretches: of.stretches.map((s) => ({ newest: spot(s.newest), oldest: spot(s.oldest) })),
      pictures: [...of.pictures],
      except: [...of.except.keys()],
    })),
  };
}
