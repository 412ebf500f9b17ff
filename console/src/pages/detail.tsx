/** One original: the picture has the room; facts, layers and evidence stand in a quiet column. */
import { Dialog } from "radix-ui";
import { useEffect, useEffectEvent, useState, type KeyboardEvent, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { ask, type Album, type Original, type Schemas } from "../api/client";
import { keys, useAlbum, useArranged, useDo, useHolding, useMe, useOriginal } from "../api/hooks";
import { counted, duration, exact, possessive, size, wall } from "../format";
import { NewVersion } from "../ui/adding";
import { Button, State, TextButton, When, type Tone } from "../ui/parts";
import { addressOf, type Among } from "../ui/sheet";
import { Fault, Waiting } from "../ui/states";
import { Confirm } from "../ui/confirm";
import { WhatDeletingDoes } from "./chosen";
import { ToAlbum } from "./to-album";
import { ToLink, withLink } from "./to-link";
import { Picture } from "./picture";
import { Place } from "./place";
import { Taken } from "./said-when";
import { SideBySide } from "./side-by-side";
import { StoreCopies } from "./store-copy";
import { Words } from "./words";

interface Way {
  id: string | undefined;
  /** Among these the next ones are. */
  among: Among;
  onClose: () => void;
  /** To another picture. */
  onGo: (id: string) => void;
  /** One picture follows the other by itself. */
  plays: boolean;
  onPlay: (plays: boolean) => void;
  /** The pictures are looked at as their album is arranged. */
  arranged: boolean;
}

/** A picture that plays is looked at for so long. */
const LOOKED_AT = 4000;

/** Goes on by itself, and ends at the last one. `at`: the picture that is shown. */
function usePlay(plays: boolean, at: string | undefined, next: (() => void) | undefined, end: () => void) {
  const go = useEffectEvent(() => (next ?? end)());
  // The outside system: time.
  useEffect(() => {
    if (!plays || at === undefined) return;
    const timer = setTimeout(go, LOOKED_AT);
    return () => clearTimeout(timer);
  }, [plays, at]);
}

/** What lies beside a picture: by time, or in the order of its album. Where that does not have it (it was put in meanwhile), by time. */
function useBeside(original: Original | undefined, among: Among, arranged: boolean) {
  const order = useArranged(among.album, arranged);
  const ids = order.data?.steps.flatMap((s) => s.picture?.id ?? []) ?? [];
  const at = original ? ids.indexOf(original.id) : -1;
  if (!arranged || at < 0) return { before: original?.newer ?? undefined, after: original?.older ?? undefined };
  return { before: ids[at - 1], after: ids[at + 1] };
}

export function Detail({ id, among, onClose, onGo, plays, onPlay, arranged }: Way) {
  const original = useOriginal(id, among);
  // While another picture is on its way, the one before stands in for it: what lies beside that one is no news.
  const beside = original.data?.id === id ? original.data : undefined;
  const { before, after } = useBeside(beside, among, arranged);
  const onPrevious = before ? () => onGo(before) : undefined;
  const onNext = after ? () => onGo(after) : undefined;
  usePlay(plays, beside?.id, onNext, () => onPlay(false));
  // Only of this view itself: a question that stands open before it ("Delete this picture?") is about the picture that it was asked of.
  const press = (e: KeyboardEvent<HTMLElement>) => {
    const writes = e.target instanceof Element && e.target.closest("input, textarea");
    const inside = e.currentTarget.contains(e.target as Node) && !(e.target instanceof HTMLMediaElement) && !writes;
    if (inside && e.key === "ArrowLeft") onPrevious?.();
    if (inside && e.key === "ArrowRight") onNext?.();
  };
  return (
    <Dialog.Root open={id !== undefined} onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        {/* Keeps what is behind it from scrolling. */}
        <Dialog.Overlay className="bg-paper fixed inset-0 z-40" />
        <Dialog.Content aria-describedby={undefined} onKeyDown={press} onEscapeKeyDown={stayWhileWriting} className="bg-paper fixed inset-0 z-50 overflow-y-auto rounded-none text-ink outline-none lg:overflow-hidden">
          {original.isError ? (
            <div className="p-8">
              <Dialog.Title className="sr-only">Not found</Dialog.Title>
              <Fault failure={original.error} />
              <Dialog.Close className="border-line bg-raised rounded-lg border px-3.5 py-1.5 font-semibold">Back to the library</Dialog.Close>
            </div>
          ) : !original.data ? (
            <>
              <Dialog.Title className="sr-only">Picture</Dialog.Title>
              <Waiting what="the picture" full />
            </>
          ) : (
            <Shown original={original.data} among={among} arranged={arranged} plays={plays} onPlay={onPlay} onClose={onClose} onPrevious={onPrevious} onNext={onNext} onForward={onGo} />
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** The key that closes what is open leaves only what somebody is writing. */
const stayWhileWriting = (e: globalThis.KeyboardEvent) => {
  if (e.target instanceof Element && e.target.closest("form")) e.preventDefault();
};

const turn = "absolute top-1/2 flex size-11 -translate-y-1/2 items-center justify-center rounded-full border-0 bg-black/45 text-[22px] text-white hover:bg-black/65";

const bar = "rounded-full border-0 bg-black/55 px-3 py-1.5 text-[14px] text-white hover:bg-black/75";
const KEPT = "details";

/** Whether the column with the details is shown: as this browser had it last. */
function useDetails(): [boolean, (shown: boolean) => void] {
  const [shown, setShown] = useState(() => localStorage.getItem(KEPT) !== "hidden");
  return [
    shown,
    (now) => {
      setShown(now);
      localStorage.setItem(KEPT, now ? "shown" : "hidden");
    },
  ];
}

interface Sides {
  original: Original;
  among: Among;
  arranged: boolean;
  plays: boolean;
  onPlay: (plays: boolean) => void;
  onClose: () => void;
  onPrevious: (() => void) | undefined;
  onNext: (() => void) | undefined;
  /** Another file of this picture is shown from now on. */
  onForward: (id: string) => void;
}

function Shown({ original: o, among, arranged, plays, onPlay, onClose, onPrevious, onNext, onForward }: Sides) {
  const file = o.path.split("/").pop();
  const [details, setDetails] = useDetails();
  const [part, setPart] = useState<string>();
  // A file of another picture is none of this one's.
  const other = o.parts.some((p) => p.id === part && p.id !== o.id) ? part : undefined;
  const looked = useOriginal(other, { find: "" });
  const shown = other && looked.data?.id === other ? looked.data : o;
  const month = keys.originals(o.taken_local.slice(0, 7), among.album);
  return (
    <div className={`flex min-h-full flex-col lg:h-full ${details ? "lg:grid lg:grid-cols-[minmax(0,1fr)_348px]" : ""}`}>
      <div className={`relative flex items-center justify-center bg-[#14160f] lg:h-screen ${details ? "h-[62vh]" : "h-dvh"}`}>
        <Picture original={shown} ways={{ next: onNext, before: onPrevious, away: onClose }} />
        <div className="absolute top-3 right-3 left-3 flex flex-wrap items-start justify-between gap-2">
          {shown === o ? (
            <span />
          ) : (
            <button type="button" className={bar} onClick={() => setPart(undefined)}>
              {shown.path.split("/").pop()}: back to the picture
            </button>
          )}
          <span className="flex gap-2">
            {(onNext || plays) && (
              <button type="button" aria-label={plays ? "Stop: no picture follows by itself" : "Play: one picture follows the other"} className={bar} onClick={() => onPlay(!plays)}>
                {plays ? "Stop" : "Play"}
              </button>
            )}
            <button type="button" aria-pressed={!details} className={bar} onClick={() => setDetails(!details)}>
              {details ? "Hide details" : "Show details"}
            </button>
            {!details && (
              <Dialog.Close className={bar} aria-label="Close">
                ×
              </Dialog.Close>
            )}
          </span>
        </div>
        {onPrevious && (
          <button type="button" aria-label={arranged ? "The picture before" : "Newer"} className={`${turn} left-3`} onClick={onPrevious}>
            ‹
          </button>
        )}
        {onNext && (
          <button type="button" aria-label={arranged ? "The picture after" : "Older"} className={`${turn} right-3`} onClick={onNext}>
            ›
          </button>
        )}
      </div>
      {!details && <Dialog.Title className="sr-only">{file}</Dialog.Title>}
      <div className={`overflow-y-auto px-6 py-5 lg:h-screen ${details ? "" : "hidden"}`}>
        <div className="flex items-start justify-between gap-3">
          {details && <Dialog.Title className="m-0 text-[21px] leading-snug break-words">{file}</Dialog.Title>}
          <Dialog.Close className="border-0 bg-transparent px-1 text-[26px] leading-none text-soft hover:text-ink" aria-label="Close">
            ×
          </Dialog.Close>
        </div>
        <p className="mt-1 mb-0 text-[16px]">{wall(o.taken_local)}</p>
        <Taken key={`taken ${o.id}`} original={o} month={month} stop={() => plays && onPlay(false)} />
        <Words key={o.id} original={o} month={month} stop={() => plays && onPlay(false)} />
        {o.read_problem && (
          <p className="border-ochre mt-3 mb-0 border-l-4 pl-3 text-[14.5px]">
            The file is kept exactly as it came, but {o.read_problem}.
          </p>
        )}
        <a href={`/api/originals/${o.id}/bytes`} download={file} className="bg-accent text-on-accent mt-4 block rounded-lg px-4 py-2 text-center text-[15px] font-semibold no-underline hover:brightness-95">
          Download the original, {size(o.size)}
        </a>
        {o.film?.state === "made" && !o.film_inside && <p className="mt-1.5 mb-0 text-[14px] text-soft">Played here is a version for browsers, {size(o.film.size ?? 0)}. The original is as it came.</p>}
        {o.film_inside && (
          <p className="mt-1.5 mb-0 text-[14px] text-soft">
            In this file is a short film, too.{" "}
            {o.film?.state === "made" ? `A version of it for browsers is played here, ${size(o.film.size ?? 0)}.` : o.film ? `It cannot be played here: ${o.film.why}.` : "It is being made ready to be played here."}
          </p>
        )}
        {o.derived && (
          <a href={`/api/originals/${o.id}/derived`} download={o.derived.name} className="mt-2 block text-center text-[14.5px] text-soft hover:text-ink">
            Download the JPEG made from it, {size(o.derived.size)}
          </a>
        )}
        {(among.find || among.album) && o.at && (
          <Link reloadDocument to={addressOf({ find: "" }, { at: o.at })} className="mt-2 block text-center text-[14.5px] text-soft hover:text-ink">
            {among.album ? "Show it in the library" : "Show it among all pictures"}
          </Link>
        )}
        {!o.own && <p className="mt-3 mb-0 text-[15px]">A picture of {possessive(o.person_name)}.</p>}
        <div key={o.id} className="mt-3 flex flex-wrap gap-2 [&>*]:grow [&>button]:px-2">
          <Favourite original={o} month={month} />
          {o.own && <PutAway original={o} month={month} />}
        </div>
        <Albums original={o} />
        {among.album && <Cover key={`${among.album} ${o.id}`} album={among.album} picture={o.id} />}
        <Place key={`place ${o.id}`} original={o} month={month} stop={() => plays && onPlay(false)} heading={<Heading>Where it was taken</Heading>} />
        {o.own && (
          <>
            <Heading>How safe it is</Heading>
            <Layers original={o} />
            <StoreCopies key={`copies ${o.id}`} original={o} />
          </>
        )}
        {(o.own || o.parts.length > 1) && (
          <>
            <Heading>Files of this picture</Heading>
            <ul className="m-0 list-none p-0 text-[14.5px]">
              {o.parts.map((p) => (
                <li key={p.id} className="flex items-baseline justify-between gap-3 py-1">
                  <span className="min-w-0 break-words">
                    {p.id === shown.id ? <b className="font-semibold">{p.name}</b> : <TextButton onClick={() => setPart(p.id)}>{p.name}</TextButton>}
                    <span className="block text-[13px] text-soft">
                      {partWord(p.part)}
                      {p.id === o.id && o.brought_forward && "; you brought it forward"}
                    </span>
                    {o.own && <Forward original={o} part={p} month={month} onForward={onForward} />}
                    <SideBySide original={o} part={p} />
                    {p.said && <Apart original={o} part={p} month={month} onForward={onForward} />}
                  </span>
                  <a href={`/api/originals/${p.id}/bytes`} download={p.name} aria-label={`Download ${p.name}, ${size(p.size)}`} className="numbers shrink-0 text-soft underline underline-offset-4 hover:text-ink">
                    {size(p.size)}
                  </a>
                </li>
              ))}
            </ul>
            {o.own && o.kind !== "other" && o.kind !== "sidecar" && <NewVersion key={o.id} of={o.id} done={onForward} />}
          </>
        )}
        <Heading>About it</Heading>
        <dl className="m-0 grid grid-cols-[92px_1fr] gap-x-3 gap-y-1.5 text-[14.5px]">
          <Fact name="Size">{[o.width && o.height && `${o.width} × ${o.height}`, o.seconds != null && duration(o.seconds), size(o.size)].filter(Boolean).join(", ")}</Fact>
          {o.turned > 0 && <AsInFile original={o} month={month} />}
          <Fact name="Camera">{o.camera}</Fact>
          <Fact name="Lens">{o.lens}</Fact>
          <Fact name="Exposure">{o.exposure}</Fact>
          <Fact name="Device">{o.device_name}</Fact>
          {o.own && (
            <Fact name="Arrived">
              <When at={o.landed_at} />
            </Fact>
          )}
          <Fact name="Folder">
            {o.own ? (
              <Link to={`/folders?of=${encodeURIComponent(o.path.split("/").slice(0, -1).join("/"))}`} className="text-ink underline decoration-line underline-offset-4 hover:decoration-ink">
                {o.path.split("/").slice(0, -1).join(" / ")}
              </Link>
            ) : (
              o.path.split("/").slice(0, -1).join(" / ")
            )}
          </Fact>
          {o.name !== file && <Fact name="Name on the device">{o.name}</Fact>}
          <Fact name="Checksum (SHA-256)">
            <code className="text-[12px] break-all">{o.digest}</code>
          </Fact>
        </dl>
        {o.own && <Delete original={o} onDeleted={onClose} />}
      </div>
    </div>
  );
}

/** That somebody turned it, and the way back. */
function AsInFile({ original: o, month }: { original: Original; month: readonly string[] }) {
  const turn = useDo(() => ask<Schemas["Marked"]>("/api/turns", "POST", { pictures: [o.id], as_in_file: true }), [keys.original(o.id), month]);
  return (
    <Fact name="Turned">
      {["", "to the right", "upside down", "to the left"][o.turned]}
      {o.own && (
        <TextButton tone="soft" className="block" disabled={turn.isPending} onClick={() => turn.mutate(undefined)}>
          Show it as its file says
        </TextButton>
      )}
      {turn.isError && <Fault failure={turn.error} />}
    </Fact>
  );
}

/** Whether one likes it best. */
function Favourite({ original: o, month }: { original: Original; month: readonly string[] }) {
  const mark = useDo((favourite: boolean) => ask<Schemas["Marked"]>("/api/favourites", "POST", { pictures: [o.id], favourite }), [keys.original(o.id), month, keys.months]);
  // What was just said counts until the server says it again.
  const is = mark.isPending ? mark.variables : o.favourite;
  return (
    <>
      <Button aria-pressed={is} disabled={mark.isPending} onClick={() => mark.mutate(!is)}>
        <span aria-hidden className={is ? "text-ochre-text" : "text-soft"}>
          {is ? "★" : "☆"}
        </span>{" "}
        {is ? "A favourite of yours" : "Make it a favourite"}
      </Button>
      {mark.isError && <Fault failure={mark.error} />}
    </>
  );
}

/** Out of the way, or back in the library. */
function PutAway({ original: o, month }: { original: Original; month: readonly string[] }) {
  const put = useDo((away: boolean) => ask<Schemas["Marked"]>("/api/put-away", "POST", { pictures: [o.id], away }), [keys.original(o.id), month, keys.months]);
  const is = put.isPending ? put.variables : o.put_away;
  return (
    <>
      <Button disabled={put.isPending} onClick={() => put.mutate(!is)}>
        {is ? "Put it back" : "Put it away"}
      </Button>
      {is && <p className="m-0 basis-full text-[14px] text-soft">Put away: it is kept as safe as before, and shown in the library to who looks for “put away”. Albums show it as before.</p>}
      {put.isError && <Fault failure={put.error} />}
    </>
  );
}

/** That a picture stands for the album that one looks at: for whoever owns that. */
function Cover({ album: id, picture }: { album: string; picture: string }) {
  const album = useAlbum(id);
  const choose = useDo(() => ask<Album>(`/api/albums/${id}`, "PATCH", { cover: picture }), [keys.albums]);
  if (album.data?.may !== "own") return null;
  const is = album.data.cover === picture && album.data.cover_chosen;
  return (
    <>
      <Button className="mt-2" disabled={is || choose.isPending} onClick={() => choose.mutate(undefined)}>
        {is ? "This album’s cover" : "Make it this album’s cover"}
      </Button>
      {choose.isError && <Fault failure={choose.error} />}
    </>
  );
}

/** The albums that a picture is in, and the way into another one. */
function Albums({ original: o }: { original: Original }) {
  const [adding, setAdding] = useState(false);
  const [showing, setShowing] = useState(false);
  const me = useMe();
  const navigate = useNavigate();
  const out = useDo((album: string) => ask<Schemas["AlbumFilled"]>(`/api/albums/${album}/pictures`, "POST", { pictures: [o.id], inside: false }), [keys.original(o.id), keys.albums]);
  const add = useDo((album: string) => ask<Schemas["AlbumFilled"]>(`/api/albums/${album}/pictures`, "POST", { pictures: [o.id], inside: true }), [keys.original(o.id), keys.albums]);
  if (!o.own && o.albums.length === 0) return null;
  return (
    <>
      <Heading>In albums</Heading>
      <ul className="m-0 list-none p-0 text-[15px]">
        {o.albums.map((a) => (
          <li key={a.id} className="flex items-baseline justify-between gap-3 py-0.5">
            <span className="min-w-0 break-words">
              {a.seen ? (
                <Link to={`/albums/${a.id}`} className="text-ink underline decoration-line underline-offset-4 hover:decoration-ink">
                  {a.name}
                </Link>
              ) : (
                <>
                  {a.name} <span className="block text-[13px] text-soft">is shared with you no more</span>
                </>
              )}
            </span>
            {o.own && (
              <TextButton tone="soft" aria-label={`Take out of ${a.name}`} disabled={out.isPending} onClick={() => out.mutate(a.id)} className="shrink-0">
                Take out
              </TextButton>
            )}
          </li>
        ))}
      </ul>
      {o.own && (
        <span className={`flex flex-wrap gap-2 ${o.albums.length > 0 ? "mt-2" : ""}`}>
          <Button onClick={() => setAdding(true)}>Add to album …</Button>
          {me.data?.role !== "guest" && <Button onClick={() => setShowing(true)}>Link …</Button>}
        </span>
      )}
      {showing && <ToLink pictures={1} busy={add.isPending} failure={add.error} onAlbum={(album) => add.mutate(album.id, { onSuccess: () => void navigate(...withLink(album)) })} onClose={() => setShowing(false)} />}
      {out.isError && <Fault failure={out.error} />}
      {adding && <ToAlbum pictures={1} busy={add.isPending} failure={add.error} onAlbum={(album) => add.mutate(album.id, { onSuccess: () => setAdding(false) })} onClose={() => setAdding(false)} />}
    </>
  );
}

/** Deleting: what will happen, to how many files, and until when it can be undone, before anything does. */
function Delete({ original: o, onDeleted }: { original: Original; onDeleted: () => void }) {
  const [asking, setAsking] = useState(false);
  const holding = useHolding(asking);
  const hold = useDo(() => ask<Schemas["NowHeld"]>("/api/holding", "POST", { originals: [o.id] }), [keys.months, ["library", "month"], keys.holding, keys.overview]);
  const rule = holding.data?.pages[0];
  const many = o.parts.length > 1;
  return (
    <div className="border-line mt-6 border-t pt-4">
      <Button look="danger" onClick={() => setAsking(true)}>
        Delete …
      </Button>
      {asking && (
        <Confirm
          title={many ? `Delete this picture and its ${counted(o.parts.length, "file")}?` : "Delete this picture?"}
          action="Delete"
          busy={hold.isPending || !rule}
          failure={hold.error ?? holding.error}
          onConfirm={() => hold.mutate(undefined, { onSuccess: onDeleted })}
          onClose={() => setAsking(false)}
        >
          <WhatDeletingDoes rule={rule} many={false} />
        </Confirm>
      )}
    </div>
  );
}

/** Which file of a picture is shown: another one, or the one that is shown by the rules. */
function Forward({ original: o, part: p, month, onForward }: { original: Original; part: Schemas["ShotPart"]; month: readonly string[]; onForward: (id: string) => void }) {
  const bring = useDo((forward: boolean) => ask<Schemas["Forward"]>(`/api/originals/${p.id}/forward`, "POST", { forward }), [month, keys.months, keys.original(o.id), keys.albums]);
  const back = p.id === o.id;
  if (back ? !o.brought_forward : !p.can_stand) return null;
  return (
    <>
      <TextButton tone="soft" className="text-[13.5px]" disabled={bring.isPending} onClick={() => bring.mutate(!back, { onSuccess: (now) => onForward(now.id) })}>
        {back ? "As before" : "Show this one"}
      </TextButton>
      {bring.isError && <Fault failure={bring.error} />}
    </>
  );
}

/** A file that is of this picture because somebody said so is a picture by itself again. */
function Apart({ original: o, part: p, month, onForward }: { original: Original; part: Schemas["ShotPart"]; month: readonly string[]; onForward: (id: string) => void }) {
  const others = o.parts.filter((one) => one.id !== p.id);
  const take = useDo(() => ask<Schemas["Forward"]>(`/api/originals/${p.id}/version`, "POST", { of: null }), [month, keys.months, keys.original(o.id), keys.albums]);
  // What stays of it is what was looked at.
  const stay = () => p.id === o.id && others[0] && onForward(others[0].id);
  return (
    <>
      {" "}
      <TextButton tone="soft" className="text-[13.5px]" disabled={take.isPending} onClick={() => take.mutate(undefined, { onSuccess: stay })}>
        Take apart
      </TextButton>
      {take.isError && <Fault failure={take.error} />}
    </>
  );
}

function Heading({ children }: { children: ReactNode }) {
  return <h3 className="border-line mt-6 mb-2.5 border-t pt-4 font-sans text-[13px] font-semibold tracking-normal text-soft">{children}</h3>;
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  if (!children) return null;
  return (
    <>
      <dt className="text-soft">{name}</dt>
      <dd className="m-0 min-w-0 break-words">{children}</dd>
    </>
  );
}

function Layers({ original: o }: { original: Original }) {
  if (!o.layer) return null;
  const tone: Tone = o.layer === "device" ? "trouble" : o.layer === "home" ? "look" : "well";
  const word = {
    device: "Damaged or missing at home, and no copy offsite",
    home: "At home; no copy offsite yet",
    offsite: "At home and offsite",
    proven: "At home and offsite; the offsite copy was read back and is right",
  }[o.layer];
  return (
    <>
      <State tone={tone}>{word ?? o.layer}</State>
      <p className="mt-1 mb-0 text-[14px] text-soft">{o.needs ? `For three copies, in two kinds of place, one of them offsite, it ${o.needs}.` : "Three copies, in two kinds of place, one of them offsite."}</p>
      <ol className="m-0 mt-3 list-none space-y-2.5 p-0 text-[14.5px]">
        {o.evidence.map((e, i) => (
          <li key={i} className="flex gap-3">
            <span aria-hidden className="mt-[7px] size-[9px] shrink-0 rounded-full" style={{ background: e.outcome !== "right" ? "var(--oxide)" : e.act === "opened" ? "var(--rock)" : e.place === "home" ? "var(--loam)" : "var(--clay)" }} />
            <span>
              {said(e)}
              <span className="block text-[13px] text-soft" title={exact(e.at)}>
                <When at={e.at} />
                {e.digest && `, checksum ${e.digest.slice(0, 12)}…`}
              </span>
            </span>
          </li>
        ))}
      </ol>
    </>
  );
}

function partWord(part: string): string {
  return { edited: "edited version", still: "the picture itself", twin: "the same picture as a JPEG", video: "the video", raw: "raw data of the camera", motion: "the short video that belongs to it", sidecar: "notes about it", other: "belongs to it" }[part] ?? part;
}

function said(e: Schemas["Evidence"]): string {
  const place = e.place === "home" ? "at home" : `in ${e.place}`;
  if (e.outcome === "missing") return `Looked for ${place}: missing`;
  if (e.outcome === "wrong") return `Read ${place}: damaged`;
  return (
    {
      landed: "Received, and written to the home disk",
      reread: "Read again at home: right",
      confirmed: `Sent to ${e.place}, which confirmed it`,
      compared: `Read back from ${e.place}, still encrypted: the same bytes that were sent`,
      listed: `Found in the list of ${e.place}`,
      opened: `Read back from ${e.place} and decrypted: right`,
    }[e.act] ?? e.act
  );
}
