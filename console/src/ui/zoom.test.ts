import { describe, expect, test } from "vitest";
import { held, isWhole, lying, moved, nearest, swiped, toggled, whole, zoomed, type Size } from "./zoom";

const rooms: Size[] = [
  { width: 930, height: 800 },
  { width: 390, height: 380 },
  { width: 40, height: 2000 },
];
const pictures: Size[] = [
  { width: 4032, height: 3024 },
  { width: 3024, height: 4032 },
  { width: 200, height: 120 },
  { width: 30_000, height: 30_000 },
  { width: 9000, height: 40 },
  { width: 1, height: 1 },
];

test("what is turned fills its box", () => {
  const box = { width: 400, height: 300 };
  for (const [turned, width, height] of [[0, 400, 300], [1, 300, 400], [2, 400, 300], [3, 300, 400]] as const) expect(lying(turned, box)).toEqual({ width, height });
});

describe("a picture in its room", () => {
  test("fits, is not made larger than it is, and is as large as it can be", () => {
    for (const room of rooms) {
      for (const picture of pictures) {
        const { scale } = whole(picture, room);
        expect(picture.width * scale).toBeLessThanOrEqual(room.width + 0.001);
        expect(picture.height * scale).toBeLessThanOrEqual(room.height + 0.001);
        expect(scale === 1 || Math.abs(picture.width * scale - room.width) < 0.01 || Math.abs(picture.height * scale - room.height) < 0.01).toBe(true);
      }
    }
  });

  test("what is under the mouse stays under it, until an edge of the picture would come into the room", () => {
    const [picture, room] = [pictures[0] as Size, rooms[0] as Size];
    let view = whole(picture, room);
    const at = { x: 120, y: -80 };
    const under = () => ({ x: (at.x - view.x) / view.scale, y: (at.y - view.y) / view.scale });
    // So near that it is larger than its room in both directions: from there on it stays.
    view = zoomed(view, 3, { x: 0, y: 0 }, picture, room);
    const before = under();
    for (const factor of [1.2, 1.5, 0.9, 1.3]) {
      view = zoomed(view, factor, at, picture, room);
      expect(under().x).toBeCloseTo(before.x, 6);
      expect(under().y).toBeCloseTo(before.y, 6);
    }
    // And all the way back.
    for (let n = 0; n < 40; n += 1) view = zoomed(view, 0.8, at, picture, room);
    expect(view).toEqual(whole(picture, room));
  });

  test("is never pushed out of its room, and never nearer or further than it goes", () => {
    for (const room of rooms) {
      for (const picture of pictures) {
        let view = whole(picture, room);
        for (let n = 0; n < 200; n += 1) {
          const wild = (k: number) => Math.sin(n * 12.9898 + k * 78.233) * 3000;
          view = n % 3 === 0 ? moved(view, { x: wild(1), y: wild(2) }, picture, room) : zoomed(view, 1 + Math.abs(wild(3)) / 2000 - 0.5, { x: wild(4) / 10, y: wild(5) / 10 }, picture, room);
          expect(view.scale).toBeGreaterThanOrEqual(whole(picture, room).scale * 0.9999);
          expect(view.scale).toBeLessThanOrEqual(nearest(picture, room) * 1.0001);
          expect(held(view, picture, room)).toEqual(view);
          for (const [at, length, space] of [
            [view.x, picture.width * view.scale, room.width],
            [view.y, picture.height * view.scale, room.height],
          ] as const) {
            expect(Math.abs(at)).toBeLessThanOrEqual(Math.max(0, (length - space) / 2) + 0.001);
          }
        }
      }
    }
  });

  test("a double click leads to its own pixels, and back", () => {
    for (const room of rooms) {
      for (const picture of pictures) {
        for (const pixel of [1, 2, 3]) {
          const near = toggled(whole(picture, room), { x: 10, y: 10 }, picture, room, pixel);
          expect(isWhole(near, picture, room)).toBe(false);
          expect(toggled(near, { x: 10, y: 10 }, picture, room, pixel)).toEqual(whole(picture, room));
        }
      }
    }
    expect(toggled(whole(pictures[0] as Size, rooms[0] as Size), { x: 0, y: 0 }, pictures[0] as Size, rooms[0] as Size, 2).scale).toBe(0.5);
  });
});

test("a stroke says where to", () => {
  expect([swiped({ x: -120, y: 20 }, 400), swiped({ x: 120, y: -20 }, 400), swiped({ x: 10, y: 130 }, 400)]).toEqual(["next", "before", "away"]);
  expect([swiped({ x: -50, y: 5 }, 120), swiped({ x: -50, y: 5 }, 700)]).toEqual(["next", undefined]);
  expect([swiped({ x: 0, y: -200 }, 200), swiped({ x: 90, y: 90 }, 200), swiped({ x: 3, y: 2 }, 90)]).toEqual([undefined, undefined, undefined]);
});
