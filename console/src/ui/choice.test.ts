import { describe, expect, test } from "vitest";
import { added, asked, everything, extended, isChosen, NOTHING, ofMonth, toggled, withMonth, type Choice, type Mark } from "./choice";

/** Pictures of three months, newest first; those of one moment are told apart by their ids. */
const months = ["2026-04", "2026-03", "2025-12"];
const pictures: Mark[] = months.flatMap((month, m) => Array.from({ length: 9 }, (_, n) => ({ id: `${m}${9 - n}`, taken: `${month}-${String(20 - Math.floor(n / 2)).padStart(2, "0")}T10:00:00${n % 2 ? "" : ".5"}` }))).sort((a, b) => (a.taken === b.taken ? (a.id < b.id ? 1 : -1) : a.taken < b.taken ? 1 : -1));
const at = (n: number) => pictures[n] as Mark;
const chosen = (choice: Choice) => pictures.flatMap((mark, n) => (isChosen(choice, mark) ? [n] : []));
const range = (from: number, to: number) => Array.from({ length: to - from + 1 }, (_, n) => from + n);

/** The same numbers each time. */
function numbers(seed: number): (below: number) => number {
  let state = seed;
  return (below) => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return Math.floor((state / 2 ** 32) * below);
  };
}

describe("a choice", () => {
  test("of one and of another, and of none again", () => {
    const two = toggled(toggled(NOTHING, at(3)), at(20));
    expect(chosen(two)).toEqual([3, 20]);
    expect(toggled(toggled(two, at(3)), at(20)).size).toBe(0);
    expect(chosen(added(two, [at(3), at(4)]))).toEqual([3, 4, 20]);
  });

  test("from one to another, whichever comes first, over months", () => {
    expect(chosen(extended(NOTHING, at(4), at(21), months))).toEqual(range(4, 21));
    expect(chosen(extended(NOTHING, at(21), at(4), months))).toEqual(range(4, 21));
    expect(chosen(extended(NOTHING, at(5), at(5), months))).toEqual([5]);
    // A month between the two is chosen as a whole, whatever was taken out of it before.
    const between = toggled(extended(NOTHING, at(9), at(17), months), at(12));
    expect(chosen(extended(between, at(4), at(21), months))).toEqual(range(4, 21));
  });

  test("of a month, less some, and as a whole", () => {
    const month = withMonth(NOTHING, "2026-03", true);
    expect([ofMonth(month, "2026-03"), ofMonth(month, "2026-04")]).toEqual([true, false]);
    const less = toggled(toggled(month, at(9)), at(17));
    expect([chosen(less), ofMonth(less, "2026-03")]).toEqual([range(10, 16), "indeterminate"]);
    expect(chosen(toggled(less, at(9)))).toEqual(range(9, 16));
    expect(withMonth(less, "2026-03", false).size).toBe(0);
    expect(chosen(everything(months))).toEqual(range(0, 26));
  });

  test("is what a list of the pictures would be, whatever is done", () => {
    const below = numbers(7);
    for (let round = 0; round < 300; round += 1) {
      let choice = NOTHING;
      let list = new Set<number>();
      for (let step = 0; step < 12; step += 1) {
        const [a, b] = [below(pictures.length), below(pictures.length)];
        const kind = below(4);
        if (kind === 0) {
          choice = toggled(choice, at(a));
          if (!list.delete(a)) list.add(a);
        } else if (kind === 1) {
          choice = extended(choice, at(a), at(b), months);
          list = new Set([...list, ...range(Math.min(a, b), Math.max(a, b))]);
        } else if (kind === 2) {
          const month = months[below(3)] as string;
          const on = below(2) === 0;
          choice = withMonth(choice, month, on);
          list = new Set([...list].filter((n) => !at(n).taken.startsWith(month)));
          for (const [n, mark] of pictures.entries()) if (on && mark.taken.startsWith(month)) list.add(n);
        } else {
          choice = added(choice, [at(a), at(b)]);
          list.add(a).add(b);
        }
        expect(chosen(choice)).toEqual([...list].sort((x, y) => x - y));
      }
    }
  });

  test("is told to the server by its ends", () => {
    const choice = toggled(extended(NOTHING, at(1), at(10), months), at(5));
    expect(asked(toggled(choice, at(20)), { find: "videos" })).toEqual({
      find: "videos",
      months: [
        { month: "2026-04", stretches: [{ newest: { taken_local: at(1).taken, id: at(1).id }, oldest: null }], pictures: [], except: [at(5).id] },
        { month: "2026-03", stretches: [{ newest: null, oldest: { taken_local: at(10).taken, id: at(10).id } }], pictures: [], except: [] },
        { month: "2025-12", stretches: [], pictures: [at(20).id], except: [] },
      ],
    });
  });
});
