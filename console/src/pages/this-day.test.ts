import { expect, test } from "vitest";
import { thisDay, yearsOf } from "./this-day";

test("a day of the years before is a line that the library understands", () => {
  expect(thisDay(new Date(2026, 10, 30))).toBe("30 November before 2026");
  expect(thisDay(new Date(2024, 1, 29))).toBe("29 February before 2024");
});

test("years are told as people say them", () => {
  expect([yearsOf([]), yearsOf(["2019-01-02T10:00:00"]), yearsOf(["2023-01-01", "2019-05-05", "2023-02-02"]), yearsOf(["2023", "2019", "2021"])]).toEqual(["", "2019", "2019 and 2023", "2019, 2021 and 2023"]);
});
