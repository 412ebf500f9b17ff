/** Does something with all that is chosen, and says what came of it. */
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { ask, Failure, type Album, type Schemas } from "../api/client";
import { keys } from "../api/hooks";
import type { Form as Where } from "./said-where";

type Wanted = Schemas["Choice"];
/** So many are named in one request. */
const AT_ONCE = 1000;

/** What was done with what had been chosen. */
export type Done =
  | { what: "zip"; zip: Schemas["MadeZip"] }
  | { what: "deleted"; pictures: number; files: string[]; left: number; failure?: Failure | undefined }
  | { what: "added"; album: Album; pictures: number; there: number; left: number; failure?: Failure | undefined }
  | { what: "taken-out"; album: Album; pictures: number; left: number; failure?: Failure | undefined }
  | { what: "back"; files: number; failure?: Failure | undefined }
  | { what: "marked"; favourite: boolean; pictures: number; left: number; failure?: Failure | undefined }
  | { what: "away" | "not-away"; pictures: number; ids: string[]; left: number; failure?: Failure | undefined }
  | { what: "words"; pictures: number; left: number; failure?: Failure | undefined }
  | { what: "where"; pictures: number; ids: string[]; in_file: boolean; left: number; failure?: Failure | undefined }
  | { what: "track"; pictures: number; placed: number; off_it: number; left: number; failure?: Failure | undefined }
  | { what: "turned"; pictures: number; ids: string[]; quarters: number; left: number; failure?: Failure | undefined }
  | { what: "when"; pictures: number; ids: string[]; later_by: number; left: number; failure?: Failure | undefined };

/** After these, nothing is chosen any more. */
export const ENDS: ReadonlySet<Done["what"]> = new Set(["deleted", "back", "away", "not-away", "where", "track", "when"]);

/** Does something with all that is chosen, and brings back what was deleted: thousand by thousand, until somebody says stop. What was done until then stays done. */
export function useRunning(setDone: (done: Done) => void) {
  const client = useQueryClient();
  const [progress, setProgress] = useState<{ word: string; done: number; of: number; one: "picture" | "file" }>();
  const stopped = useRef(false);
  // A page that is left goes on with nothing.
  useEffect(
    () => () => {
      stopped.current = true;
    },
    [],
  );
  const fresh = () => Promise.all([keys.months, ["library", "month"], keys.albums, keys.holding, keys.overview].map((queryKey) => client.invalidateQueries({ queryKey })));
  /** Thousand by thousand; `act` is told which. Returns how many it was, and what kept it from going on. */
  const each = async (wanted: Wanted, of: number, word: string, act: (pictures: string[]) => Promise<void>): Promise<[number, Failure | undefined]> => {
    stopped.current = false;
    let done = 0;
    const report = () => setProgress({ word, done, of, one: "picture" });
    report();
    try {
      let after: Schemas["Spot"] | null | undefined;
      do {
        const page: Schemas["ChosenPictures"] = await ask("/api/choice/pictures", "POST", { choice: wanted, after });
        after = page.next;
        if (page.pictures.length === 0) break;
        await act(page.pictures);
        done += page.pictures.length;
        report();
      } while (after && !stopped.current);
    } catch (e) {
      return [done, e as Failure];
    } finally {
      setProgress(undefined);
    }
    return [done, undefined];
  };
  const remove = async (wanted: Wanted, of: number) => {
    const files: string[] = [];
    const [pictures, failure] = await each(wanted, of, "Deleted", async (some) => void files.push(...(await someHeld(some))));
    setDone({ what: "deleted", pictures, files, left: Math.max(0, of - pictures), failure });
    await fresh();
  };
  const mark = async (wanted: Wanted, of: number, favourite: boolean) => {
    const [pictures, failure] = await each(wanted, of, "Marked", async (some) => void (await unlessGone(ask("/api/favourites", "POST", { pictures: some, favourite }))));
    setDone({ what: "marked", favourite, pictures, left: Math.max(0, of - pictures), failure });
    await fresh();
  };
  const write = async (wanted: Wanted, of: number, words: Omit<Schemas["WriteWords"], "pictures">) => {
    const [pictures, failure] = await each(wanted, of, "Written", async (some) => void (await unlessGone(ask("/api/words", "POST", { pictures: some, ...words }))));
    setDone({ what: "words", pictures, left: Math.max(0, of - pictures), failure });
    await fresh();
  };
  const put = async (wanted: Wanted, of: number, away: boolean) => {
    const ids: string[] = [];
    const [pictures, failure] = await each(wanted, of, away ? "Put away" : "Put back", async (some) => {
      if (await unlessGone(ask("/api/put-away", "POST", { pictures: some, away }))) ids.push(...some);
    });
    setDone({ what: away ? "away" : "not-away", pictures, ids, left: Math.max(0, of - pictures), failure });
    await fresh();
  };
  /** The same with pictures that are named. Returns with which it was done, and what kept it from going on. */
  const eachOf = async <T>(ids: string[], word: string, path: string, body: object, heard?: (answer: T) => void): Promise<[string[], Failure | undefined]> => {
    stopped.current = false;
    const done: string[] = [];
    try {
      for (let n = 0; n < ids.length && !stopped.current; n += AT_ONCE) {
        setProgress({ word, done: n, of: ids.length, one: "picture" });
        const some = ids.slice(n, n + AT_ONCE);
        const answer = await unlessGone(ask<T>(path, "POST", { pictures: some, ...body }));
        if (!answer) continue;
        heard?.(answer);
        done.push(...some);
      }
    } catch (e) {
      return [done, e as Failure];
    } finally {
      setProgress(undefined);
    }
    return [done, undefined];
  };
  const putAgain = async (all: string[], away: boolean) => {
    const [ids, failure] = await eachOf(all, away ? "Put away" : "Put back", "/api/put-away", { away });
    setDone({ what: away ? "away" : "not-away", pictures: ids.length, ids, left: all.length - ids.length, failure });
    await fresh();
  };
  /** All of them by their names, before any is somewhere else than where it was chosen. */
  const named = async (wanted: Wanted, of: number): Promise<[string[], Failure | undefined]> => {
    const ids: string[] = [];
    const [, failure] = await each(wanted, of, "Looked up", async (some) => void ids.push(...some));
    return [failure || stopped.current ? [] : ids, failure];
  };
  const whereAgain = async (all: string[], form: Where, of = all.length, before?: Failure) => {
    const [ids, failure] = await eachOf(all, "Said of", "/api/places", form);
    setDone({ what: "where", pictures: ids.length, ids, in_file: form.as_in_file === true, left: of - ids.length, failure: before ?? failure });
    await fresh();
  };
  const whenAgain = async (all: string[], later_by: number, of = all.length, before?: Failure) => {
    const [ids, failure] = await eachOf(all, "Said of", "/api/times", { later_by });
    setDone({ what: "when", pictures: ids.length, ids, later_by, left: of - ids.length, failure: before ?? failure });
    await fresh();
  };
  const follow = async (wanted: Wanted, of: number, gpx: string) => {
    const [all, before] = await named(wanted, of);
    let failure = before;
    let [pictures, placed, off_it] = [0, 0, 0];
    try {
      for (let n = 0; n < all.length && !stopped.current; n += AT_ONCE) {
        setProgress({ word: "Followed", done: n, of: all.length, one: "picture" });
        const along = await unlessGone(ask<Schemas["Along"]>("/api/places/track", "POST", { pictures: all.slice(n, n + AT_ONCE), gpx }));
        pictures += along?.count ?? 0;
        placed += along?.placed ?? 0;
        off_it += along?.off_it ?? 0;
      }
    } catch (e) {
      failure = e as Failure;
    }
    setProgress(undefined);
    setDone({ what: "track", pictures, placed, off_it, left: Math.max(0, of - pictures - placed - off_it), failure });
    await fresh();
  };
  const turnAgain = async (all: string[], quarters: number, of = all.length, before?: Failure) => {
    let pictures = 0;
    const [ids, failure] = await eachOf<Schemas["Marked"]>(all, "Turned", "/api/turns", { quarters }, (marked) => (pictures += marked.count));
    setDone({ what: "turned", pictures, ids, quarters, left: of - pictures, failure: before ?? failure });
    await fresh();
  };
  const turn = async (wanted: Wanted, of: number, quarters: number) => {
    const [all, failure] = await named(wanted, of);
    await turnAgain(all, quarters, of, failure);
  };
  const sayWhere = async (wanted: Wanted, of: number, form: Where) => {
    const [all, failure] = await named(wanted, of);
    await whereAgain(all, form, of, failure);
  };
  const sayWhen = async (wanted: Wanted, of: number, later_by: number) => {
    const [all, failure] = await named(wanted, of);
    await whenAgain(all, later_by, of, failure);
  };
  const add = async (wanted: Wanted, of: number, album: Album) => {
    let [pictures, there] = [0, 0];
    const [, failure] = await each(wanted, of, "Added", async (some) => {
      const filled = await unlessGone(fill(album, some, true));
      pictures += filled?.count ?? 0;
      there += filled?.there ?? 0;
    });
    const left = Math.max(0, of - pictures - there);
    setDone({ what: "added", album, pictures, there, left, failure });
    await fresh();
    return left;
  };
  const takeOut = async (wanted: Wanted, of: number, album: Album) => {
    // All are named before any is taken out: what is out of it is chosen no more.
    const groups: string[][] = [];
    let pictures = 0;
    let [, failure] = await each(wanted, of, "Looked up", async (some) => void groups.push(some));
    try {
      for (const some of failure ? [] : groups) {
        setProgress({ word: "Taken out", done: pictures, of, one: "picture" });
        pictures += (await unlessOthers(fill(album, some, false)))?.count ?? 0;
      }
    } catch (e) {
      failure = e as Failure;
    }
    setProgress(undefined);
    setDone({ what: "taken-out", album, pictures, left: Math.max(0, of - pictures), failure });
    await fresh();
  };
  const bringBack = async (deleted: string[]) => {
    stopped.current = false;
    let [files, failure]: [number, Failure | undefined] = [0, undefined];
    try {
      for (let n = 0; n < deleted.length && !stopped.current; n += AT_ONCE) {
        setProgress({ word: "Brought back", done: n, of: deleted.length, one: "file" });
        files += (await ask<Schemas["Changed"]>("/api/holding/back", "POST", { originals: deleted.slice(n, n + AT_ONCE) })).count;
      }
    } catch (e) {
      failure = e as Failure;
    }
    setProgress(undefined);
    setDone({ what: "back", files, failure });
    await fresh();
  };
  return { progress, remove, mark, write, put, putAgain, follow, sayWhere, sayWhen, whereAgain, whenAgain, turn, turnAgain, add, takeOut, bringBack, stop: () => (stopped.current = true) };
}

export type Running = ReturnType<typeof useRunning>;

/** Deletes some, and says which files that were. */
const someHeld = async (originals: string[]): Promise<string[]> => (await unlessGone(ask<Schemas["NowHeld"]>("/api/holding", "POST", { originals })))?.files ?? [];

const fill = (album: Album, pictures: string[], inside: boolean) => ask<Schemas["AlbumFilled"]>(`/api/albums/${album.id}/pictures`, "POST", { pictures, inside });

/** That none of them is one's own is no failure: they are counted as left. */
async function unlessOthers<T>(answer: Promise<T>): Promise<T | undefined> {
  try {
    return await answer;
  } catch (e) {
    if (e instanceof Failure && e.kind === "not-allowed") return undefined;
    throw e;
  }
}

/** That somebody else deleted all of them a moment ago is no failure. */
async function unlessGone<T>(answer: Promise<T>): Promise<T | undefined> {
  try {
    return await answer;
  } catch (e) {
    if (e instanceof Failure && e.kind === "not-found") return undefined;
    throw e;
  }
}
