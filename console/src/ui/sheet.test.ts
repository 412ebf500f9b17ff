import { expect, test } from "vitest";
import { drawn, GAP, heightOf, monthAt, near, places, portionsOf, pressed, pushed, ratiosOf, rowOf, rows, shown, spotOf, SQUEEZE, told } from "./sheet";

/** Numbers that look like chance, from a seed. */
function* dice(seed: number) {
  for (let n = seed; ; ) {
    n = (n * 1103515245 + 12345) % 2147483648;
    yield n / 2147483648;
  }
}

test("every picture is in one row, in order, and no row is wider than the sheet", () => {
  const chance = dice(7);
  const next = () => chance.next().value ?? 0;
  for (let n = 0; n < 300; n++) {
    const ratios = Array.from({ length: Math.floor(next() * 60) }, () => shown(100 + next() * 5000, 100 + next() * 5000));
    const [width, height] = [100 + next() * 1900, 60 + next() * 200];
    const all = rows(ratios, width, height);
    expect(all.flatMap(([from, to]) => ratios.slice(from, to))).toEqual(ratios);
    all.forEach(([from, to], row) => {
      expect(to).toBeGreaterThan(from);
      const wide = (end: number) => ratios.slice(from, end).reduce((sum, r) => sum + r * height, (end - from - 1) * GAP);
      if (to - from > 1) expect(wide(to)).toBeLessThanOrEqual(width * SQUEEZE + 1e-6);
      const placed = places(ratios, [from, to], width, height);
      placed.forEach((p, n) => {
        const before = placed[n - 1];
        expect(p.left).toBeCloseTo(before ? before.left + before.width + GAP : 0);
        expect(p.width).toBeGreaterThan(0);
      });
      const end = placed[placed.length - 1];
      expect((end?.left ?? 0) + (end?.width ?? 0)).toBeLessThanOrEqual(width + 1e-6);
      // What comes next did not fit.
      if (row < all.length - 1) expect(wide(to + 1)).toBeGreaterThan(width * SQUEEZE);
    });
  }
});

test("a picture without a size, a panorama and a strip are shown as something that can be looked at", () => {
  expect(shown(null, null)).toBeCloseTo(4 / 3);
  expect(shown(9000, 1000)).toBe(2.4);
  expect(shown(1000, 9000)).toBe(0.55);
});

test("only what is near the screen is on the page, however long the month is", () => {
  const [height, screen] = [168, 800];
  for (const top of [-1_000_000, -50_000, -3000, -1, 0, 500, 5000]) {
    const [from, to] = near(10_000, height, top, screen);
    expect(to - from).toBeLessThanOrEqual(Math.ceil((3 * screen) / (height + GAP)) + 2);
    // Each row that is on the screen is among them.
    for (let row = 0; row < 10_000; row++) {
      const at = top + row * (height + GAP);
      if (at < screen && at + height > 0) expect(row >= from && row < to).toBe(true);
    }
  }
  expect(near(0, height, 0, screen)).toEqual([0, 0]);
  expect(heightOf(0, height)).toBe(0);
  expect(heightOf(3, height)).toBe(3 * height + 2 * GAP);
});

test("what the server tells of a month is how its pictures are shown", () => {
  const bytes = String.fromCharCode(0, 128, 160, 96, 255, 1);
  expect(ratiosOf(btoa(bytes)).map((r) => Number(r.toFixed(3)))).toEqual([1.333, 1, 2, 0.55, 2.4, 0.55]);
  expect(ratiosOf("")).toEqual([]);
});

test("a picture is in the row that has it, and in the portion that has it", () => {
  const all = rows(Array.from({ length: 500 }, () => 1), 1000, 168);
  for (let picture = 0; picture < 500; picture++) {
    const [from, to] = all[rowOf(all, picture)] ?? [1, 0];
    expect(picture >= from && picture < to).toBe(true);
  }
  // What was there when the address was written may not be there any more.
  expect(rowOf(all, 5000)).toBe(all.length - 1);
  expect(rowOf([], 3)).toBe(0);
  expect(portionsOf(0, 0, 100)).toEqual([]);
  expect(portionsOf(0, 100, 100)).toEqual([0]);
  expect(portionsOf(99, 101, 100)).toEqual([0, 1]);
  expect(portionsOf(250, 260, 100)).toEqual([2]);
});

test("an address says where one is, and only an address of ours does", () => {
  for (const spot of [{ month: "2026-04", picture: 0 }, { month: "1999-12", picture: 31 }]) expect(spotOf(told(spot))).toEqual(spot);
  for (const other of [null, "", "2026", "2026-4", "2026-04.", "2026-04.-1", "2026-04.1e3", "2026-04.99999999", "x2026-04", "2026-04 "]) expect(spotOf(other)).toBeUndefined();
});

test("of months above each other, the one is found that a finger lies on", () => {
  const months = [{ m: "c", count: 60 }, { m: "b", count: 30 }, { m: "a", count: 10 }];
  expect([0, 0.59, 0.6, 0.89, 0.95, 1, 7].map((share) => monthAt(months, share)?.m)).toEqual(["c", "c", "b", "b", "a", "a", "a"]);
  expect(monthAt([], 0.5)).toBeUndefined();
});

test("a page of very many pictures is no higher than browsers make one, and every month keeps its share", () => {
  expect(pressed(4000, 5, 168)).toBe(1);
  expect(pressed(0, 5, 168)).toBe(1);
  for (const [inRow, height] of [
    [2, 116],
    [5, 168],
  ] as const) {
    const share = pressed(1_000_000, inRow, height);
    const page = 240 * share * heightOf(Math.ceil(1_000_000 / 240 / inRow), height);
    expect(Math.abs(page - 10_000_000)).toBeLessThan(100_000);
  }
});

test("what is on the screen stays there when something above it becomes higher or lower", () => {
  // Below the upper edge, above it, and across it at a third.
  expect(pushed(10, 500, 5000)).toBe(0);
  expect(pushed(-5900, 5000, 500)).toBe(-4500);
  expect(pushed(-1400, 500, 5000)).toBe(4500);
  expect(pushed(-200, 600, 6000)).toBe(1800);
  expect(pushed(-200, 0, 6000)).toBe(0);
});

test("rows that are drawn stay as long as they reach well beyond the screen, and then come many at a time", () => {
  const [height, screen] = [116, 844];
  let rows = drawn([0, 0], 1000, height, 0, screen);
  let changes = 0;
  for (let top = 0; top > -20_000; top -= 24) {
    const now = drawn(rows, 1000, height, top, screen);
    if (now !== rows) changes++;
    rows = now;
    const [from, to] = near(1000, height, top, screen, 0);
    expect(rows[0] <= from && rows[1] >= to).toBe(true);
  }
  expect(changes).toBeLessThan(60);
  expect(drawn([3, 40], 1000, height, 5000, screen)[1]).toBe(0);
});
