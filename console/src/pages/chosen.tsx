/** What is done with the pictures that are chosen: how many they are, take them along, delete them, and undo that. */
import { lazy, Suspense, useState } from "react";
import { useNavigate } from "react-router";
import { ask, Failure, type Album, type Schemas } from "../api/client";
import { useHolding, useHowMuch, useMe } from "../api/hooks";
import { count, counted, size } from "../format";
import { asked, type Choice } from "../ui/choice";
import { Confirm } from "../ui/confirm";
import { Button, TextButton } from "../ui/parts";
import type { Among } from "../ui/sheet";
import { Fault } from "../ui/states";
import { ENDS, useRunning, type Done } from "./chosen-doing";
import { More } from "./chosen-more";
import { address, Line, Told } from "./chosen-told";
import { SayingWhen } from "./said-when";
import { ToAlbum } from "./to-album";
import { ToLink, withLink } from "./to-link";
import { WordsOfMany } from "./words";

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
                        turn: (quarters: number) => {
                          if (known) void running.turn({ ...wanted, as_of: known.as_of }, known.pictures, quarters);
                        },
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
            <p className="mt-1 mb-0 text-[14px] text-soft">A place that you say replaces the one that {one ? "it has" : "each of them has"}; a track leaves those alone that have one. What the {one ? "file says" : "files say"} can be used again.</p>
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
