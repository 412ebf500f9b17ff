import { describe, expect, it } from "vitest";
import { apart, forField, later } from "./wall";

describe("times on the wall", () => {
  it("are moved by whole minutes, whatever their seconds are", () => {
    expect(later("2024-05-03T15:00:21.5", "1987-07-14T15:00")).toBe((Date.UTC(1987, 6, 14, 15) - Date.UTC(2024, 4, 3, 15)) / 1000);
    expect(later("2024-05-03T15:00:59", forField("2024-05-03T15:00:59"))).toBe(0);
    // Not by the zone of whoever looks: no hour is passed over here.
    expect(later("2026-03-29T01:30:00", "2026-03-29T03:30")).toBe(7200);
    // The oldest photograph, and what is half typed.
    expect(later("1970-01-01T00:00:00", "1826-01-01T00:00")).toBe(Date.UTC(1826, 0, 1) / 1000);
    expect(later("2024-05-03T15:00:21", "")).toBeUndefined();
  });

  it("are so far apart", () => {
    expect(apart("2026-04-12T10:15:30", "2026-04-12T10:15:59")).toBe("in the same minute");
    expect(apart("2026-04-12T10:15:30", "2026-04-12T10:16:00")).toBe("1 minute later");
    expect(apart("2026-04-12T10:15:30", "2026-04-12T09:55:00")).toBe("20 minutes earlier");
    expect(apart("2026-04-12T10:15:30", "2026-04-11T11:15:00")).toBe("23 hours earlier");
  });
});
