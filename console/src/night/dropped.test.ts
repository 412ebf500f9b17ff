import { describe, expect, test } from "vitest";
import { chosen, dropped, isPicture } from "./dropped";

const file = (name: string) => ({ isFile: true, isDirectory: false, name, file: (tell: (f: File) => void) => tell(new File(["x"], name)) });
const folder = (name: string, ...inside: unknown[]) => ({
  isFile: false,
  isDirectory: true,
  name,
  createReader: () => {
    // Two at a time, as a browser tells a hundred.
    const rest = [...inside];
    return { readEntries: (tell: (all: unknown[]) => void) => tell(rest.splice(0, 2)) };
  },
});
const items = (...entries: unknown[]) => entries.map((entry) => ({ webkitGetAsEntry: () => entry })) as unknown as DataTransferItemList;

describe("what was dropped", () => {
  test("has all files of all folders, each with its own", async () => {
    const found = await dropped(items(file("a.jpg"), folder("Fanø", file("b.jpg"), file("c.jpg"), folder("Day 2", file("d.jpg")), file("e.jpg")), null));
    expect(found.map((f) => `${f.folder}|${f.file.name}`)).toEqual(["|a.jpg", "Fanø|b.jpg", "Fanø|c.jpg", "Fanø/Day 2|d.jpg", "Fanø|e.jpg"]);
  });

  test("ends somewhere", async () => {
    let deep: unknown = file("a.jpg");
    for (let n = 0; n < 500; n++) deep = folder("x", deep);
    expect(await dropped(items(deep))).toEqual([]);
  });

  test("has pictures, films, and what belongs to them; nothing else", () => {
    for (const [name, type] of [["a.jpg", "image/jpeg"], ["a.HEIC", ""], ["a.RAF", ""], ["a.mov", "video/quicktime"], ["a.xmp", ""], ["a", "image/png"]] as const) expect(isPicture({ name, type })).toBe(true);
    for (const [name, type] of [[".DS_Store", ""], ["Thumbs.db", ""], ["letter.pdf", "application/pdf"], ["a", ""], [".hidden.jpg", "image/jpeg"]] as const) expect(isPicture({ name, type })).toBe(false);
  });

  test("of a field, folders are told by the browser", () => {
    const one = Object.defineProperty(new File(["x"], "a.jpg"), "webkitRelativePath", { value: "Fanø/Day 2/a.jpg" });
    expect(chosen([one])[0]?.folder).toBe("Fanø/Day 2");
  });
});
