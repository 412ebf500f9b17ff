import { describe, expect, it } from "vitest";
import type { OriginalCard } from "../api/client";
import { moved, putAt, sent, withWords, without, type Piece } from "./arrange";

const pieces = (keys: string) => [...keys].map((key) => ({ key }));
const keysOf = (all: { key: string }[]) => all.map((p) => p.key).join("");

describe("an order that somebody gives", () => {
  it("has each of them once, wherever one is moved", () => {
    for (const key of "abcd") {
      for (let to = -2; to < 7; to++) {
        const now = keysOf(moved(pieces("abcd"), key, to));
        expect([...now].sort().join("")).toBe("abcd");
        expect(now.indexOf(key)).toBe(Math.max(0, Math.min(3, to)));
        expect(now.replace(key, "")).toBe("abcd".replace(key, ""));
      }
    }
    expect(keysOf(moved(pieces("abc"), "x", 0))).toBe("abc");
  });

  it("takes the place of the one that it is dropped on", () => {
    expect(keysOf(putAt(pieces("abcd"), "a", "c"))).toBe("bcad");
    expect(keysOf(putAt(pieces("abcd"), "d", "b"))).toBe("adbc");
    expect(keysOf(putAt(pieces("abcd"), "b", "b"))).toBe("abcd");
    expect(keysOf(putAt(pieces("abcd"), "b", "x"))).toBe("abcd");
  });

  it("has room for words, each known apart, and is told as pictures and words", () => {
    const picture = { id: "1" } as OriginalCard;
    const all: Piece[] = withWords(withWords([{ key: "1", picture }], 0), 2);
    expect(new Set(all.map((p) => p.key)).size).toBe(3);
    expect(sent(all)).toEqual([{ words: "" }, { picture: "1" }, { words: "" }]);
    expect(without(all, "1")).toHaveLength(2);
  });
});
