import { expect, test } from "vitest";
import { keys } from "./keys";
import { stale, type LiveEvent } from "./live";

/** Whether an event has this asked for again. */
const asks = (event: LiveEvent, key: readonly string[]) => stale(event).some((s) => s.every((part, n) => key[n] === part));

test("pictures have their months and themselves asked for again, and no other month", () => {
  const event: LiveEvent = { kind: "originals", ids: ["a"], months: ["2026-04"] };
  for (const key of [keys.months, keys.originals("2026-04"), keys.original("a")]) expect(asks(event, key)).toBe(true);
  for (const key of [keys.originals("2026-05"), keys.original("b"), keys.household, keys.refilings, keys.overview]) expect(asks(event, key)).toBe(false);
});

test("a device has its own coverage asked for again, and nobody else's", () => {
  const event: LiveEvent = { kind: "devices", ids: ["phone"] };
  for (const key of [keys.deviceList, keys.people, keys.coverage("phone", 100), keys.clocks("phone")]) expect(asks(event, key)).toBe(true);
  for (const key of [keys.coverage("laptop", 100), keys.clocks("laptop"), keys.runs]) expect(asks(event, key)).toBe(false);
});

test("where nobody knows which, all of the kind is asked for again", () => {
  expect(asks({ kind: "devices", ids: [] }, keys.coverage("laptop", 100))).toBe(true);
  for (const key of [keys.months, keys.originals("2026-04"), keys.original("a"), keys.household]) expect(asks({ kind: "library" }, key)).toBe(true);
  expect(asks({ kind: "runs" }, keys.runsOfDay("phone", "2026-04-02"))).toBe(true);
  expect(asks({ kind: "record" }, keys.record)).toBe(true);
  expect(asks({ kind: "work" }, keys.record)).toBe(false);
});
