import { describe, expect, test } from "vitest";
import { areaOf, around, asked, bar, levelOf, lies, moved, NEAREST, placeAt, pointOf, read, seen, told, widthOf, written, zoomed, type View } from "./atlas";

const leiden: View = { north: 52.16, east: 4.49, zoom: 8 };
const screen = { width: 800, height: 500 };

describe("the map", () => {
  test.each([leiden, { north: -41, east: 174.8, zoom: 3 }, { north: 64, east: -179.9, zoom: 12.5 }, { north: 0, east: 0, zoom: 1 }])("a point is where its place is: %o", (view) => {
    for (const at of [{ x: 0, y: 0 }, { x: 90, y: -60 }, { x: -127, y: 40 }]) {
      const place = placeAt(view, at);
      const back = pointOf(view, place.north, place.east);
      expect(back.x).toBeCloseTo(at.x, 4);
      expect(back.y).toBeCloseTo(at.y, 4);
    }
  });

  test("what is under the finger stays there", () => {
    const at = { x: 130, y: -77 };
    const under = placeAt(leiden, at);
    for (const steps of [1, 2.5, -3]) {
      const point = pointOf(zoomed(leiden, steps, at), under.north, under.east);
      expect(point.x).toBeCloseTo(at.x, 3);
      expect(point.y).toBeCloseTo(at.y, 3);
    }
    const point = pointOf(moved(leiden, { x: 40, y: 20 }), leiden.north, leiden.east);
    expect([point.x, point.y].map((n) => Math.round(n * 1e3) / 1e3)).toEqual([40, 20]);
  });

  test("it ends where there is nothing nearer, and goes round the earth", () => {
    expect(zoomed(leiden, 99).zoom).toBe(NEAREST);
    expect(moved({ north: 0, east: 179, zoom: 2 }, { x: -widthOf(2) / 36, y: 0 }).east).toBeCloseTo(-171, 5);
    expect(moved(leiden, { x: 0, y: 1e9 }).north).toBeLessThanOrEqual(84);
  });

  test("what is seen over the date line has its west in the east", () => {
    const area = seen({ north: 0, east: 179, zoom: 4 }, screen);
    expect(area.west).toBeGreaterThan(area.east);
    expect(seen({ north: 0, east: 0, zoom: 1 }, screen)).toMatchObject({ west: -180, east: 180 });
    const here = seen(leiden, screen);
    expect(here.south < leiden.north && leiden.north < here.north && here.west < leiden.east && leiden.east < here.east).toBe(true);
  });

  test("cells have room for a picture", () => {
    for (let zoom = 2; zoom <= 16; zoom += 0.1) expect(widthOf(zoom) / 2 ** levelOf(zoom)).toBeGreaterThanOrEqual(63.9);
    expect(levelOf(17)).toBe(18);
    expect(levelOf(1)).toBe(4);
  });

  test("a map that is moved a little asks for the same, and for all that is seen", () => {
    const level = levelOf(leiden.zoom);
    const ask = (view: View) => asked(seen(view, screen), level);
    expect(ask(moved(leiden, { x: 1, y: 1 }))).toEqual(ask(leiden));
    const [all, some] = [ask(leiden), seen(leiden, screen)];
    expect(all.south <= some.south && all.west <= some.west && all.north >= some.north && all.east >= some.east).toBe(true);
    expect(asked(seen({ north: 80, east: 0, zoom: 1 }, screen), 4)).toMatchObject({ north: 90, west: -180, east: 180 });
  });

  test("areas and views are written and read again", () => {
    expect(told({ south: 52.1, west: 4.4, north: 52.20001, east: -0 })).toBe("52.1/4.4..52.2/0");
    expect(areaOf("52.1/4.4..52.2/-4.5")).toEqual({ south: 52.1, west: 4.4, north: 52.2, east: -4.5 });
    expect(areaOf("52.1/4.4")).toBeUndefined();
    expect(read(written(leiden))).toEqual(leiden);
    for (const bad of [null, "", "52/4", "52/4/8/9", "52/x/8", "1e3/4/8", "NaN/4/8"]) expect(read(bad)).toBeUndefined();
    expect(read("99/500/40")).toEqual({ north: 84, east: 140, zoom: NEAREST });
  });

  test("what lies in a part of the earth, also over the date line", () => {
    const fiji = { south: -20, west: 170, north: -10, east: -170 };
    expect([lies(-15, 175, fiji), lies(-15, -175, fiji), lies(-15, 0, fiji), lies(-25, 175, fiji)]).toEqual([true, true, false, false]);
    expect([lies(52, 4, { south: 50, west: 3, north: 53, east: 7 }), lies(52, 8, { south: 50, west: 3, north: 53, east: 7 })]).toEqual([true, false]);
  });

  test("all places are seen, also over the date line, also a single one", () => {
    for (const places of [[{ north: 52, east: 4 }, { north: 55.4, east: 8.4 }, { north: 50.8, east: 5.7 }], [{ north: -18, east: 178 }, { north: -13, east: -172 }], [{ north: 10, east: 10 }]]) {
      const view = around(places, screen);
      for (const p of places) {
        const at = pointOf(view, p.north, p.east);
        expect(Math.abs(at.x)).toBeLessThan(screen.width / 2);
        expect(Math.abs(at.y)).toBeLessThan(screen.height / 2);
      }
    }
    expect(around([], screen).zoom).toBe(1);
  });

  test("the bar says a round distance", () => {
    expect(bar(leiden, 120).says).toBe("20 km");
    expect(bar({ ...leiden, zoom: 16 }, 120).says).toBe("100 m");
    const { width } = bar(leiden, 120);
    expect(width > 20 && width <= 120).toBe(true);
  });
});
