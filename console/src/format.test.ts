/** What the pages say in numbers is what the server and its programs say: both are held against the same samples. */
import { describe, expect, test } from "vitest";
import { ago, clock, count, counted, duration, money, month, size, span, until, wall } from "./format";
import samples from "./words.samples.json";

describe("as the server says it", () => {
  test.each(samples.count as [number, string][])("%d", (n, said) => expect(count(n)).toBe(said));
  test.each(samples.counted as [number, string, string][])("%d %s", (n, one, said) => expect(counted(n, one)).toBe(said));
  test.each(samples.size as [number, string][])("%d bytes", (bytes, said) => expect(size(bytes)).toBe(said));
});

test("a word whose plural is another one", () => expect([counted(1, "copy", "copies"), counted(2, "copy", "copies")]).toEqual(["1 copy", "2 copies"]));

test.each([
  [0, "0.00 €"],
  [0.001, "below 0.01 €"],
  [1.5, "1.50 €"],
  [99.994, "99.99 €"],
  [1234.5, "1,235 €"],
])("%d is money", (n, said) => expect(money(n, "€")).toBe(said));

const now = Date.parse("2026-06-14T12:00:00Z");
const before = (seconds: number) => new Date(now - seconds * 1000).toISOString();

test.each([
  [0, "just now"],
  [59, "just now"],
  [60, "1 minute ago"],
  [119 * 60, "119 minutes ago"],
  [120 * 60, "2 hours ago"],
  [47 * 3600, "47 hours ago"],
  [48 * 3600, "2 days ago"],
  [13 * 86_400, "13 days ago"],
  [14 * 86_400, "31 May 2026"],
])("%d seconds ago", (seconds, said) => expect(ago(before(seconds), now)).toBe(said));

test.each([
  [-5, "in 0 seconds"],
  [1, "in 1 second"],
  [89, "in 89 seconds"],
  [90, "in 2 minutes"],
  [3600, "in 60 minutes"],
  [5400, "in 2 hours"],
  [36 * 3600, "in 2 days"],
])("in %d seconds", (seconds, said) => expect(until(before(-seconds), now)).toBe(said));

test("what a clock on the wall showed is told as it stands, wherever one is", () => {
  expect(wall("2026-04-12T10:15:30")).toContain("10:15");
  expect(wall("2026-04-12T10:15:30.123456")).toBe(wall("2026-04-12T10:15:30"));
  expect(month("2026-04")).toBe("April 2026");
});

test("a time to come is told as exactly as it matters", () => {
  const at = (hours: number) => new Date(now + hours * 3_600_000).toISOString();
  expect(clock(at(1), new Date(now))).toMatch(/^\d\d:\d\d$/);
  expect(clock(at(48), new Date(now))).toMatch(/^Tue/);
  expect(clock(at(24 * 30), new Date(now))).toBe("14 July");
});

test.each([
  [0, "0:00"],
  [59.4, "0:59"],
  [59.6, "1:00"],
  [754, "12:34"],
])("a film of %d seconds", (seconds, said) => expect(duration(seconds)).toBe(said));

test("a span of time is as short as it can be", () => {
  expect(span("2026-04-02T10:00:00", "2026-04-30T10:00:00")).toBe("April 2026");
  expect(span("2026-04-02T10:00:00", "2026-06-01T00:00:00")).toBe("April to June 2026");
  expect(span("2019-12-31T23:59:59", "2026-01-01T00:00:00")).toBe("December 2019 to January 2026");
});
