/** What is done with the pictures that are chosen: how many they are, take them along, delete them, and undo that. */
import { useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { lazy, Suspense, useEffect, useRef, useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { ask, Failure, type Album, type Schemas } from "../api/client";
import { keys, useHolding, useHowMuch, useMe } from "../api/hooks";
import { count, counted, size } from "../format";
import { asked, type Choice } from "../ui/choice";
import { Confirm } from "../ui/confirm";
import { Button, TextButton } from "../ui/parts";
import type { Among } from "../ui/sheet";
import { Fault } from "../ui/states";
import { SayingWhen } from "./said-when";
import type { Form as Where } from "./said-where";
import { ToAlbum } from "./to-album";
import { ToLink, withLink } from "./to-link";
import { WordsOfMany } from "./words";

type Wanted = Schemas["Choice"];
/** So many are named in one request. */
const AT_ONCE = 1000;

/** What was done with what had been chosen. */
type Done =
  | { what: "zip"; zip: Schemas["MadeZip"] }
  | { what: "deleted"; pictures: number; files: string[]; left: number; failure?: Failure | undefined }
  | { what: "added"; album: Album; pictures: number; there: number; left: number; failure?: Failure | undefined }
  | { what: "taken-out"; album: Album; pictures: number; left: number; failure?: Failure | undefined }
  | { what: "back"; files: number; failure?: Failure | undefined }
  | { what: "marked"; favourite: boolean; pictures: number; left: number; failure?: Failure | undefined }
  | { what: "away" | "not-away"; pictures: number; ids: string[]; left: number; failure?: Failure | undefined }
  | { what: "words"; pictures: number; left: number; failure?: Failure | undefined }
  | { what: "where"; pictures: number; ids: string[]; in_file: boolean; left: number; failure?: Failure | undefined }
  | { what: "track"; pictures: number; placed: number; left: number; failure?: Failure | undefined }
  | { what: "when"; pictures: number; ids: string[]; later_by: number; left: number; failure?: Failure | undefined };

/** After these, nothing is chosen any more. */
const ENDS: ReadonlySet<Done["what"]> = new Set(["deleted", "back", "away", "not-away", "where", "track", "when"]);

/** With the map, which few pages need. */
const SayingWhere = lazy(() => import("./said-where").then((m) => ({ default: m.SayingWhere })));

interface ChosenProps {
  choice: Choice;
  /** Among which pictures. */
  among: Among;
  /** The album that they are in. */
  album?: Album | undefined;
  /** How many there are. */
  total: number;
  all: () => void;
  clear: () => void;
}

/** The bar at the lower edge of the library, while something is chosen, and after something was done with it. */
export function Chosen({ choice, among, album, total, all, clear }: ChosenProps) {
  const [done, setDone] = useState<Done>();
  const [zipping, setZipping] = useState<Failure | "busy">();
  const [asking, setAsking] = useState(false);
  const [adding, setAdding] = useState(false);
  const [writing, setWriting] = useState(false);
  const [saying, setSaying] = useState<"where" | "when">();
  const [showing, setShowing] = useState(false);
  const me = useMe();
  const navigate = useNavigate();
  const wanted = choice.size > 0 ? asked(choice, among) : undefined;
  const howMuch = useHowMuch(wanted);
  const running = useRunning(setDone);
  if (!wanted && !done && !running.progress) return null;
  // What is known of a choice that was another one a moment ago is nothing to act by.
  const known = howMuch.isPlaceholderData ? undefined : howMuch.data;
  const one = known?.pictures === 1;
  const zip = async () => {
    if (!wanted || !known) return;
    setZipping("busy");
    try {
      const made = await ask<Schemas["MadeZip"]>("/api/zips", "POST", { ...wanted, as_of: known.as_of });
      setZipping(undefined);
      setDone({ what: "zip", zip: made });
      location.assign(address(made));
    } catch (e) {
      setZipping(e as Failure);
    }
  };
  return (
    <div className="pointer-events-none sticky bottom-0 z-20 pb-4 max-sm:-mx-3 max-sm:pb-0">
      <section aria-label="Chosen" data-floor className="border-line bg-raised pointer-events-auto rounded-xl border px-4 py-2.5 text-[15.5px] shadow-lg max-sm:rounded-none max-sm:border-x-0 max-sm:border-b-0">
        {running.progress ? (
          <Line action={<Button onClick={running.stop}>Stop</Button>}>
            {running.progress.word} {count(running.progress.done)} of {counted(running.progress.of, running.progress.one)} …
          </Line>
        ) : wanted ? (
          <>
            <Line
              action={
                <>
                  <span className="flex gap-4">
                    {known && known.pictures < total && (
                      <TextButton tone="soft" onClick={all}>
                        Choose all {count(total)}
                      </TextButton>
                    )}
                    <TextButton tone="soft" onClick={clear}>
                      Choose none
                    </TextButton>
                  </span>
                  <span className="flex gap-2.5 max-sm:grid max-sm:w-full max-sm:grid-cols-2">
                    <More
                      disabled={!known || known.pictures === 0}
                      mark={(favourite) => {
                        if (known) void running.mark({ ...wanted, as_of: known.as_of }, known.pictures, favourite);
                      }}
                      {...(!album && {
                        write: () => setWriting(true),
                        where: () => setSaying("where"),
                        when: () => setSaying("when"),
                        ...(me.data?.role !== "guest" && { show: () => setShowing(true) }),
                        put: (away: boolean) => {
                          if (!known) return;
                          clear();
                          void running.put({ ...wanted, as_of: known.as_of }, known.pictures, away);
                        },
                      })}
                      isAway={/\bput away\b/i.test(among.find)}
                    />
                    {album ? (
                      <Button
                        disabled={!known || known.pictures === 0}
                        onClick={() => {
                          if (!known) return;
                          clear();
                          void running.takeOut({ ...wanted, as_of: known.as_of }, known.pictures, album);
                        }}
                      >
                        Take out
                      </Button>
                    ) : (
                      <>
                        <Button disabled={!known || known.pictures === 0} onClick={() => setAdding(true)}>
                          Add to album …
                        </Button>
                        <Button look="danger" disabled={!known || known.pictures === 0} onClick={() => setAsking(true)}>
                          Delete …
                        </Button>
                      </>
                    )}
                    <Button look="strong" disabled={!known || known.files === known.not_at_home || zipping === "busy"} onClick={() => void zip()}>
                      {zipping === "busy" ? "Preparing …" : "Download"}
                    </Button>
                  </span>
                </>
              }
            >
              {known ? (
                <>
                  <b className="font-semibold">{counted(known.pictures, "picture")} chosen</b>
                  <span className="text-soft">
                    , {known.files > known.pictures && `${counted(known.files, "file")}, `}
                    {size(known.bytes)}
                  </span>
                </>
              ) : howMuch.isError ? (
                "Not counted"
              ) : (
                "Counting …"
              )}
            </Line>
            {howMuch.isError && <Fault failure={howMuch.error} again={() => void howMuch.refetch()} />}
            {zipping instanceof Failure && <Fault failure={zipping} />}
          </>
        ) : (
          done && <Told done={done} running={running} close={() => setDone(undefined)} />
        )}
        {wanted && done && !ENDS.has(done.what) && !running.progress && (
          <div className="border-line mt-2.5 border-t pt-2.5">
            <Told done={done} running={running} close={() => setDone(undefined)} />
          </div>
        )}
      </section>
      {adding && known && wanted && (
        <ToAlbum
          pictures={known.pictures}
          busy={false}
          failure={null}
          onAlbum={(to) => {
            setAdding(false);
            void running.add({ ...wanted, as_of: known.as_of }, known.pictures, to);
          }}
          onClose={() => setAdding(false)}
        />
      )}
      {showing && known && wanted && (
        <ToLink
          pictures={known.pictures}
          onAlbum={(to) => {
            setShowing(false);
            void running.add({ ...wanted, as_of: known.as_of }, known.pictures, to).then((left) => {
              if (!left) void navigate(...withLink(to));
            });
          }}
          onClose={() => setShowing(false)}
        />
      )}
      {writing && known && wanted && (
        <WordsOfMany
          pictures={known.pictures}
          onSave={(words) => {
            setWriting(false);
            void running.write({ ...wanted, as_of: known.as_of }, known.pictures, words);
          }}
          onClose={() => setWriting(false)}
        />
      )}
      {saying === "where" && known && wanted && (
        <Suspense>
          <SayingWhere
            pictures={known.pictures}
            busy={false}
            onSave={(form) => {
              setSaying(undefined);
              clear();
              void running.sayWhere({ ...wanted, as_of: known.as_of }, known.pictures, form);
            }}
            onTrack={(gpx) => {
              setSaying(undefined);
              clear();
              void running.follow({ ...wanted, as_of: known.as_of }, known.pictures, gpx);
            }}
            onClose={() => setSaying(undefined)}
          >
            <p className="mt-1 mb-0 text-[14px] text-soft">This replaces whatever place {one ? "it has" : "each of them has"}. What the {one ? "file says" : "files say"} can be used again.</p>
          </SayingWhere>
        </Suspense>
      )}
      {saying === "when" && known?.oldest && wanted && (
        <SayingWhen
          pictures={known.pictures}
          oldest={known.oldest}
          busy={false}
          onSave={(seconds) => {
            setSaying(undefined);
            clear();
            void running.sayWhen({ ...wanted, as_of: known.as_of }, known.pictures, seconds);
          }}
          onClose={() => setSaying(undefined)}
        />
      )}
      {asking && known && wanted && (
        <Asking
          pictures={known.pictures}
          files={known.files}
          onConfirm={() => {
            setAsking(false);
            clear();
            void running.remove({ ...wanted, as_of: known.as_of }, known.pictures);
          }}
          onClose={() => setAsking(false)}
          title={one ? "Delete this picture?" : `Delete ${counted(known.pictures, "picture")}?`}
        />
      )}
    </div>
  );
}

const address = (zip: Schemas["MadeZip"]) => `/api/zips/${zip.id}/bytes`;

function Line({ children, action }: { children: ReactNode; action: ReactNode }) {
  return (
    <div className="flex flex-wrap items-center justify-between gap-x-5 gap-y-2">
      <span role="status" className="numbers">
        {children}
      </span>
      <span className="flex flex-wrap items-center gap-x-4 gap-y-2 max-sm:w-full max-sm:justify-between">{action}</span>
    </div>
  );
}

/** What was not done with some of them. */
const left = (n: number) => (n > 0 ? ` ${counted(n, "picture")} ${n === 1 ? "was" : "were"} left as ${n === 1 ? "it was" : "they were"}.` : "");

/** What came of it. */
function Told({ done, running, close }: { done: Done; running: Running; close: () => void }) {
  const shut = (
    <TextButton tone="soft" onClick={close}>
      Close
    </TextButton>
  );
  switch (done.what) {
    case "zip":
      return (
        <Line
          action={
            <>
              <a href={address(done.zip)} className="text-ink underline underline-offset-4">
                Download it again
              </a>
              {shut}
            </>
          }
        >
          “{done.zip.name}” with {counted(done.zip.files, "file")}
          {done.zip.notes > 0 && `, and what you said about ${counted(done.zip.notes, "picture")}`}, {size(done.zip.length)}, is on its way to your downloads.
          {done.zip.left_out > 0 && ` ${counted(done.zip.left_out, "file")} without a good copy at home ${done.zip.left_out === 1 ? "is" : "are"} not in it.`}
        </Line>
      );
    case "deleted":
      return (
        <>
          <Line
            action={
              <>
                {done.files.length > 0 && <Button onClick={() => void running.bringBack(done.files)}>Bring back</Button>}
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} deleted{done.files.length > done.pictures && `, with ${counted(done.files.length, "file")}`}.
            {done.left > 0 && ` ${counted(done.left, "picture")} ${done.left === 1 ? "was" : "were"} not deleted.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "marked":
      return (
        <>
          <Line action={shut}>
            {counted(done.pictures, "picture")} {done.pictures === 1 ? "is" : "are"} {done.favourite ? (done.pictures === 1 ? "a favourite" : "favourites") : done.pictures === 1 ? "no favourite" : "no favourites"} now.
            {done.left > 0 && ` ${counted(done.left, "picture")} ${done.left === 1 ? "was" : "were"} left as ${done.left === 1 ? "it" : "they"} ${done.left === 1 ? "was" : "were"}.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "away":
    case "not-away":
      return (
        <>
          <Line
            action={
              <>
                {done.ids.length > 0 && <Button onClick={() => void running.putAgain(done.ids, done.what !== "away")}>{done.what === "away" ? "Put back" : "Put away again"}</Button>}
                {done.what === "away" && (
                  <Link to="/library?find=put+away" className="text-ink underline underline-offset-4">
                    Show what was put away
                  </Link>
                )}
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} {done.what === "away" ? "put away" : "put back"}.{done.left > 0 && ` ${counted(done.left, "picture")} ${done.left === 1 ? "was" : "were"} left as ${done.left === 1 ? "it" : "they"} ${done.left === 1 ? "was" : "were"}.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "words":
      return (
        <>
          <Line action={shut}>
            Written about {counted(done.pictures, "picture")}.{done.left > 0 && ` ${counted(done.left, "picture")} ${done.left === 1 ? "was" : "were"} left as ${done.left === 1 ? "it" : "they"} ${done.left === 1 ? "was" : "were"}.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "where":
      return (
        <>
          <Line
            action={
              <>
                {!done.in_file && done.ids.length > 0 && <Button onClick={() => void running.whereAgain(done.ids, { as_in_file: true })}>Use what {done.pictures === 1 ? "its file says" : "their files say"}</Button>}
                {shut}
              </>
            }
          >
            {done.in_file ? "What the files say counts for" : "Said where it was of"} {counted(done.pictures, "picture")}.{left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "track":
      return (
        <>
          <Line action={shut}>
            {counted(done.pictures, "picture")} {done.pictures === 1 ? "has" : "have"} the place where you were then.
            {done.placed > 0 && ` ${counted(done.placed, "picture")} had a place and ${done.placed === 1 ? "keeps" : "keep"} it.`}
            {done.left > 0 && ` Of ${counted(done.left, "picture")} the track does not tell where ${done.left === 1 ? "it was" : "they were"} taken.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "when":
      return (
        <>
          <Line
            action={
              <>
                {done.ids.length > 0 && <Button onClick={() => void running.whenAgain(done.ids, -done.later_by)}>Undo</Button>}
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} {done.pictures === 1 ? "is" : "are"} of another time now, and filed there in a moment.{left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "added":
      return (
        <>
          <Line
            action={
              <>
                <Link to={`/albums/${done.album.id}`} className="text-ink underline underline-offset-4">
                  Open the album
                </Link>
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} added to “{done.album.name}”.
            {done.there > 0 && ` ${counted(done.there, "picture")} ${done.there === 1 ? "was" : "were"} in it already.`}
            {done.left > 0 && ` ${counted(done.left, "picture")} ${done.left === 1 ? "was" : "were"} not added.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "taken-out":
      return (
        <>
          <Line action={shut}>
            {counted(done.pictures, "picture")} taken out of “{done.album.name}”.
            {done.left > 0 && ` ${counted(done.left, "picture")} of others ${done.left === 1 ? "stays" : "stay"}: whose picture it is, or whose album, takes it out.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "back":
      return (
        <>
          <Line action={shut}>{counted(done.files, "file")} brought back.</Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
  }
}

function Asking({ pictures, files, title, onConfirm, onClose }: { pictures: number; files: number; title: string; onConfirm: () => void; onClose: () => void }) {
  const holding = useHolding();
  const rule = holding.data?.pages[0];
  return (
    <Confirm title={title} action="Delete" busy={!rule} failure={holding.error} onConfirm={onConfirm} onClose={onClose}>
      {files > pictures && <p className="mt-0">With all that belongs to {pictures === 1 ? "it" : "them"}, {counted(files, "file")}.</p>}
      <WhatDeletingDoes rule={rule} many={pictures > 1} />
    </Confirm>
  );
}

/** What becomes of deleted pictures, by the rule of the house. */
export function WhatDeletingDoes({ rule, many }: { rule: Pick<Schemas["Holding"], "home_days" | "offsite_days"> | undefined; many: boolean }) {
  return (
    <>
      <p className="mt-0">
        {many ? "They are" : "It is"} taken out of the library and kept under Restore
        {rule ? (rule.home_days === 0 ? ` until somebody removes ${many ? "them" : "it"} for good.` : ` for ${counted(rule.home_days, "day")}. Until then, one click brings ${many ? "them" : "it"} back.`) : "."}
      </p>
      {rule && rule.home_days > 0 && (
        <p className="text-soft">
          After that {many ? "they are" : "it is"} removed from this server{rule.offsite_days > 0 ? `; ${counted(rule.offsite_days, "day")} later ${many ? "their" : "its"} copies in the stores are removed, too` : `, and soon afterwards ${many ? "their" : "its"} copies in the stores are removed, too`}. Copies on phones and computers stay where they are, and are not sent again.
        </p>
      )}
    </>
  );
}

/** Does something with all that is chosen, and brings back what was deleted: thousand by thousand, until somebody says stop. What was done until then stays done. */
function useRunning(setDone: (done: Done) => void) {
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
  const eachOf = async (ids: string[], word: string, path: string, body: object): Promise<[string[], Failure | undefined]> => {
    stopped.current = false;
    const done: string[] = [];
    try {
      for (let n = 0; n < ids.length && !stopped.current; n += AT_ONCE) {
        setProgress({ word, done: n, of: ids.length, one: "picture" });
        const some = ids.slice(n, n + AT_ONCE);
        if (await unlessGone(ask(path, "POST", { pictures: some, ...body }))) done.push(...some);
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
    let [pictures, placed] = [0, 0];
    try {
      for (let n = 0; n < all.length && !stopped.current; n += AT_ONCE) {
        setProgress({ word: "Followed", done: n, of: all.length, one: "picture" });
        const along = await unlessGone(ask<Schemas["Along"]>("/api/places/track", "POST", { pictures: all.slice(n, n + AT_ONCE), gpx }));
        pictures += along?.count ?? 0;
        placed += along?.placed ?? 0;
      }
    } catch (e) {
      failure = e as Failure;
    }
    setProgress(undefined);
    setDone({ what: "track", pictures, placed, left: Math.max(0, of - pictures - placed), failure });
    await fresh();
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
  return { progress, remove, mark, write, put, putAgain, follow, sayWhere, sayWhen, whereAgain, whenAgain, add, takeOut, bringBack, stop: () => (stopped.current = true) };
}

type Running = ReturnType<typeof useRunning>;

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

interface MoreProps {
  disabled: boolean;
  mark: (favourite: boolean) => void;
  put?: (away: boolean) => void;
  write?: () => void;
  where?: () => void;
  when?: () => void;
  show?: () => void;
  isAway: boolean;
}

/** What else can be done with pictures. */
function More({ disabled, mark, put, write, where, when, show, isAway }: MoreProps) {
  // What asks something takes the keys there, and not back to this button: it is asked once the menu has gone.
  const asks = useRef<() => void>(undefined);
  const left = (e: Event) => {
    if (!asks.current) return;
    e.preventDefault();
    asks.current();
    asks.current = undefined;
  };
  const item = "cursor-default rounded px-3 py-2 text-[15px] outline-none select-none data-[highlighted]:bg-line/50";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild disabled={disabled}>
        <Button>
          More <span aria-hidden className="text-[11px]">▾</span>
        </Button>
      </DropdownMenu.Trigger>
        <DropdownMenu.Content onCloseAutoFocus={left} align="end" side="top" collisionPadding={8} sideOffset={8} className="border-line bg-raised z-50 min-w-48 rounded-[10px] border p-1.5 text-ink shadow-lg">
          <DropdownMenu.Item className={item} onSelect={() => mark(true)}>
            Make favourites
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => mark(false)}>
            Favourites no more
          </DropdownMenu.Item>
          {put && (
            <DropdownMenu.Item className={item} onSelect={() => put(!isAway)}>
              {isAway ? "Put back" : "Put away"}
            </DropdownMenu.Item>
          )}
          {[
            ["Title or caption …", write] as const,
            ["When they were taken …", when] as const,
            ["Where they were taken …", where] as const,
            ["Show to somebody outside …", show] as const,
          ].map(
            ([words, ask]) =>
              ask && (
                <DropdownMenu.Item
                  key={words}
                  className={item}
                  onSelect={() => {
                    asks.current = ask;
                  }}
                >
                  {words}
                </DropdownMenu.Item>
              ),
          )}
        </DropdownMenu.Content>
    </DropdownMenu.Root>
  );
}
