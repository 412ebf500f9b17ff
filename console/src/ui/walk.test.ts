import { expect, test } from "vitest";
import { next, type Box } from "./walk";

/** Rows of these widths. */
const laid = (...rows: number[][]): Box[] =>
  rows.flatMap((row, n) => {
    let left = 0;
    return row.map((width) => {
      const box = { left, right: left + width, top: n * 174 };
      left += width + 6;
      return box;
    });
  });

test("keys lead to what lies beside, above and below", () => {
  const boxes = laid([100, 100, 100], [200, 106], [50, 50, 200]);
  const lead = (from: number, key: string) => next(boxes, from, `Arrow${key}`);
  expect([lead(0, "Right"), lead(2, "Right"), lead(3, "Left"), lead(0, "Left"), lead(7, "Right")]).toEqual([1, 3, 2, undefined, undefined]);
  // Down from the third of the first row: to the second of the next, which lies under it.
  expect([lead(2, "Down"), lead(0, "Down"), lead(4, "Down"), lead(7, "Down")]).toEqual([4, 3, 7, undefined]);
  expect([lead(7, "Up"), lead(3, "Up"), lead(1, "Up")]).toEqual([4, 0, undefined]);
  expect(next(boxes, 1, "x")).toBeUndefined();
  expect(next([], 0, "ArrowDown")).toBeUndefined();
});

test("from every picture every key leads back, or the row had no picture just there", () => {
  const boxes = laid([90, 120, 80], [140, 60, 90], [300], [75, 75, 75, 75]);
  boxes.forEach((box, n) => {
    const right = next(boxes, n, "ArrowRight");
    if (right !== undefined) expect(next(boxes, right, "ArrowLeft")).toBe(n);
    for (const [there, back] of [["ArrowDown", "ArrowUp"], ["ArrowUp", "ArrowDown"]] as const) {
      const to = next(boxes, n, there);
      if (to === undefined) continue;
      const again = boxes[next(boxes, to, back) ?? -1];
      expect(again?.top).toBe(box.top);
    }
  });
});
