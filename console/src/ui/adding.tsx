/** Pictures that somebody adds from this computer: dropped on a page, pasted or chosen. They are sent while one goes from page to page, and a tray shows how far they are. */
import { createContext, use, useCallback, useEffect, useEffectEvent, useRef, useState, type ReactNode } from "react";
import { DropdownMenu } from "radix-ui";
import { ask, Failure, type Me, type Schemas } from "../api/client";
import { keys } from "../api/keys";
import { count, counted, size } from "../format";
import { chosen, dropped, isPicture, type Found } from "../night/dropped";
import type { Item } from "../night/sending";
import { useQueryClient } from "@tanstack/react-query";
import { Button, TextButton } from "./parts";

interface Target {
  id: string;
  name: string;
}

/** A picture that a file is a newer version of; `done` hears which file it has become. */
export interface VersionOf {
  id: string;
  done: (version: string) => void;
}

/** A file on its way, and the album that it is for, or the picture. */
type Added = Item & { album?: Target; of?: VersionOf; into?: "there" | "failed" };

interface Adding {
  add: (found: readonly Found[], album?: Target, of?: VersionOf) => void;
  items: readonly Added[];
}

const AddingContext = createContext<Adding | undefined>(undefined);

/** What browsers tell of a file that was written in the folder of no device. */
const ALONE = "Added in the browser";
/** Under this is noted what was on its way when the page went away. */
const LEFT = "ypogeion-adding";

const ended = (i: Added) => i.state === "home" || i.state === "there";

export function AddingPlace({ me, children }: { me: Me; children: ReactNode }) {
  const [items, setItems] = useState<Added[]>([]);
  const [leftOut, setLeftOut] = useState(0);
  const [failure, setFailure] = useState<string>();
  const [running, setRunning] = useState<AbortController>();
  // What is being sent, as it is now: what is added meanwhile follows.
  const queue = useRef<Added[]>([]);
  const sender = useRef<AbortController>(undefined);
  const client = useQueryClient();
  const left = useLeft(me.id, items);
  const gather = useGather((places, how) => {
    for (const place of places) {
      const item = queue.current[place];
      if (item) queue.current[place] = { ...item, into: how };
    }
    setItems([...queue.current]);
    void client.invalidateQueries({ queryKey: keys.albums });
  });
  const versioned = useCallback(
    async (of: VersionOf, place: number, original: string) => {
      const how = await makeVersion(of.id, original).then(() => "there" as const, () => "failed" as const);
      const item = queue.current[place];
      if (item) queue.current[place] = { ...item, into: how };
      setItems([...queue.current]);
      for (const key of [keys.months, ["library", "month"], keys.original(of.id), keys.albums]) void client.invalidateQueries({ queryKey: key });
      if (how === "there") of.done(original);
    },
    [client],
  );
  // Whoever goes sends no more.
  useEffect(() => () => sender.current?.abort(), []);

  const send = useCallback(async () => {
    const stop = new AbortController();
    sender.current = stop;
    setRunning(stop);
    setFailure(undefined);
    // With what few who open the page need.
    const sending = await import("../night/sending").catch(() => undefined);
    try {
      if (!sending) throw new Failure("unknown", "The server does not answer.");
      const kind = window.matchMedia("(pointer: coarse)").matches ? "phone" : "computer";
      const device = sending.ownDevice(me.id) ?? (await sending.becomeDevice(me.id, `${me.name}’s browser`, kind));
      const tell = (place: number, item: Item) => {
        const { album, of } = queue.current[place] ?? {};
        queue.current[place] = { ...item, ...(album ? { album } : {}), ...(of ? { of } : {}) };
        setItems([...queue.current]);
        if (item.state !== "home" || !item.original) return;
        if (album) gather(album.id, place, item.original);
        if (of) void versioned(of, place, item.original);
      };
      await sending.sendAll(device, queue.current, tell, stop.signal);
    } catch (e) {
      // It was revoked: the next time, it becomes another one.
      const revoked = sending && e instanceof sending.Revoked;
      if (revoked) sending.forgetDevice(me.id);
      setFailure(revoked ? "This browser was revoked under Devices. Send once more, and it becomes a device again." : e instanceof Failure ? e.message : "Sending was interrupted.");
    } finally {
      // What was under way when it ended waits again.
      queue.current = queue.current.map((i) => (i.state === "sending" ? { ...i, state: "waiting" as const } : i));
      setItems([...queue.current]);
      setRunning(undefined);
    }
  }, [gather, versioned, me.id, me.name]);

  const add = useCallback(
    (found: readonly Found[], album?: Target, of?: VersionOf) => {
      const pictures = found.filter(({ file }) => isPicture(file));
      setLeftOut((n) => n + found.length - pictures.length);
      const named = (file: File, source: string, to: string | undefined) => JSON.stringify([file.name, file.size, file.lastModified, source, to]);
      const there = new Set(queue.current.map((i) => named(i.file, i.source ?? "", i.of?.id ?? i.album?.id)));
      const fresh = pictures.filter(({ file, folder }) => !there.has(named(file, folder || ALONE, of?.id ?? album?.id)));
      queue.current.push(...fresh.map(({ file, folder }): Added => ({ file, size: file.size, source: folder || ALONE, state: "waiting", ...(album ? { album, anew: true } : {}), ...(of ? { of, anew: true } : {}) })));
      setItems([...queue.current]);
    },
    [],
  );
  // As soon as there is something to send and nobody sends it.
  const waits = items.some((i) => i.state === "waiting");
  useEffect(() => {
    if (waits && !running && !failure) void send();
  }, [waits, running, failure, send]);

  const again = () => {
    queue.current = queue.current.map((i) => (i.state === "failed" ? { ...i, state: "waiting" as const } : i));
    setFailure(undefined);
    setItems([...queue.current]);
  };
  const clear = () => {
    queue.current = [];
    setItems([]);
    setLeftOut(0);
    setFailure(undefined);
    left.forget();
  };
  const stop = () => {
    running?.abort();
    setFailure("Stopped. What has arrived stays; the rest goes on where it was.");
  };
  return (
    <AddingContext value={{ add, items }}>
      {children}
      {(items.length > 0 || leftOut > 0 || left.count > 0) && <Tray items={items} leftOut={leftOut} left={items.length > 0 ? 0 : left.count} failure={failure} running={running !== undefined} stop={stop} again={again} clear={clear} />}
    </AddingContext>
  );
}

/** Has a file that has arrived be a version of a picture, and stand for it. */
async function makeVersion(of: string, version: string): Promise<void> {
  await ask<Schemas["Forward"]>(`/api/originals/${version}/version`, "POST", { of });
  await ask<Schemas["Forward"]>(`/api/originals/${version}/forward`, "POST", { forward: true });
}

/** After the first picture for an album has arrived, so long until all that have are put into it, in milliseconds; no more at once than a request may name. */
const GATHER = 400;
const MOST = 500;

/** Puts what has arrived into its album, many at a time. */
function useGather(tell: (places: number[], how: "there" | "failed") => void): (album: string, place: number, original: string) => void {
  const arrived = useRef(new Map<string, { place: number; original: string }[]>());
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const told = useEffectEvent(tell);
  const flush = useEffectEvent(async () => {
    timer.current = undefined;
    const all = [...arrived.current];
    arrived.current = new Map();
    for (const [album, pictures] of all) {
      for (let n = 0; n < pictures.length; n += MOST) {
        const some = pictures.slice(n, n + MOST);
        const put = ask<Schemas["AlbumFilled"]>(`/api/albums/${album}/pictures`, "POST", { pictures: some.map((p) => p.original), inside: true });
        const how = await put.then(() => "there" as const, () => "failed" as const);
        told(some.map((p) => p.place), how);
      }
    }
  });
  const [gather] = useState(() => (album: string, place: number, original: string) => {
    arrived.current.set(album, [...(arrived.current.get(album) ?? []), { place, original }]);
    timer.current ??= setTimeout(() => later.current(), GATHER);
  });
  const later = useRef<() => void>(() => undefined);
  // Whoever is called later calls what is there then.
  useEffect(() => {
    later.current = () => void flush();
  }, []);
  return gather;
}

/** Notes what is on its way, so that a page that was loaded anew can say so; and asks before it goes away. */
function useLeft(person: string, items: readonly Added[]): { count: number; forget: () => void } {
  const key = `${LEFT}-${person}`;
  const [count, setCount] = useState(() => Number(sessionStorage.getItem(key) ?? 0) || 0);
  const open = items.filter((i) => i.state === "waiting" || i.state === "sending").length;
  // The outside system: what the browser keeps for this tab, and its question before a page goes away.
  useEffect(() => {
    if (items.length > 0) sessionStorage.setItem(key, String(open));
    if (open === 0) return;
    const ask = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [key, items.length, open]);
  const forget = () => {
    sessionStorage.removeItem(key);
    setCount(0);
  };
  return { count, forget };
}

interface TrayProps {
  items: readonly Added[];
  leftOut: number;
  /** So many were on their way when the page was loaded anew. */
  left: number;
  failure: string | undefined;
  running: boolean;
  stop: () => void;
  again: () => void;
  clear: () => void;
}

/** No tray has more lines. */
const LINES = 200;

function Tray({ items, leftOut, left, failure, running, stop, again, clear }: TrayProps) {
  const [open, setOpen] = useState(false);
  const done = items.filter(ended).length;
  const here = items.filter((i) => i.state === "there").length;
  const failed = items.filter((i) => i.state === "failed").length;
  const outside = items.filter((i) => i.album && i.into === "failed").length;
  const apart = items.filter((i) => i.of && i.into === "failed").length;
  const all = items.reduce((sum, i) => sum + i.size, 0);
  const sent = items.reduce((sum, i) => sum + (i.state === "sending" ? i.sent : ended(i) ? i.size : 0), 0);
  const says = items.length === 0 ? "" : done === items.length ? (items.length === 1 ? "It has arrived." : `All ${count(items.length)} have arrived.`) : `${count(done)} of ${counted(items.length, "file")} have arrived, ${size(sent)} of ${size(all)}.`;
  return (
    <section aria-label="Pictures that you add" className="border-line bg-raised fixed right-4 bottom-4 z-30 flex max-h-[60vh] w-[min(400px,calc(100vw-2rem))] flex-col rounded-[10px] border px-4 py-3 text-[15px] shadow-lg">
      <div aria-live="polite">
        {says && <p className="m-0 font-semibold">{says}</p>}
        {left > 0 && <p className="m-0">{`The page was loaded anew while ${counted(left, "file was", "files were")} on the way. Choose them once more: what has arrived stays, and the rest goes on where it was.`}</p>}
        {here > 0 && <p className="m-0 text-soft">{here === 1 ? "1 was here already." : `${count(here)} were here already.`}</p>}
        {leftOut > 0 && <p className="m-0 text-soft">{leftOut === 1 ? "1 file was left out: it is no picture or film." : `${count(leftOut)} files were left out: they are no pictures or films.`}</p>}
        {failed > 0 && <p className="m-0 text-oxide">{counted(failed, "file")} could not be added.</p>}
        {outside > 0 && <p className="m-0 text-oxide">{counted(outside, "picture")} arrived, and could not be put into the album.</p>}
        {apart > 0 && <p className="m-0 text-oxide">{counted(apart, "file")} arrived, and could not be shown in the place of that picture. Look at its files.</p>}
        {failure && <p className="m-0 text-oxide">{failure}</p>}
      </div>
      {items.length > 0 && done < items.length && (
        <div className="bg-line mt-2 h-2 shrink-0 overflow-hidden rounded" role="progressbar" aria-label="Added" aria-valuemin={0} aria-valuemax={100} aria-valuenow={Math.round((100 * sent) / Math.max(all, 1))}>
          <div className="bg-accent h-full" style={{ width: `${(100 * sent) / Math.max(all, 1)}%` }} />
        </div>
      )}
      {open && (
        <ul tabIndex={0} aria-label="The files" className="m-0 mt-2 min-h-0 list-none overflow-y-auto p-0 text-[14px]">
          {items.slice(0, LINES).map((i, n) => (
            <li key={n} className="border-line flex items-baseline justify-between gap-3 border-t py-1">
              <span className="min-w-0 break-words">
                {i.file.name}
                {i.state === "failed" && <span className="block text-oxide">{i.why}</span>}
              </span>
              <span className="numbers shrink-0 text-soft">{toldOf(i)}</span>
            </li>
          ))}
          {items.length > LINES && <li className="border-line border-t py-1 text-soft">{`And ${count(items.length - LINES)} more.`}</li>}
        </ul>
      )}
      <div className="mt-2 flex flex-wrap items-center gap-x-4 gap-y-1.5">
        {items.length > 0 && <TextButton onClick={() => setOpen(!open)}>{open ? "Hide the files" : "Show the files"}</TextButton>}
        {running && <TextButton onClick={stop}>Stop</TextButton>}
        {!running && done < items.length && <Button onClick={again}>Send the rest</Button>}
        {!running && <TextButton onClick={clear}>Close</TextButton>}
      </div>
    </section>
  );
}

function toldOf(i: Added): string {
  if (i.state === "home" && i.of) return i.into === "there" ? "the picture's version now" : "arrived";
  if (i.state === "home") return i.album ? (i.into === "there" ? "in the album" : i.into === "failed" ? "not in the album" : "arrived") : "arrived";
  if (i.state === "there") return "here already";
  if (i.state === "failed") return "not added";
  if (i.state === "waiting") return "waiting";
  return `${Math.round((100 * i.sent) / Math.max(i.size, 1))} %`;
}

/** What is dropped or pasted anywhere on this page is added: to the library, or to an album as well. */
export function DropPlace({ album, onTrack }: { album?: Target | undefined; onTrack?: (track: File) => void }) {
  const adding = use(AddingContext);
  const [over, setOver] = useState(false);
  const add = adding?.add;
  // A track is no picture, and tells where some were taken.
  const take = useEffectEvent((found: Found[], target: Target | undefined) => {
    const track = onTrack && found.find(({ file }) => file.name.toLowerCase().endsWith(".gpx"));
    if (track) onTrack(track.file);
    const rest = found.filter((f) => f !== track);
    if (rest.length > 0) add?.(rest, target);
  });
  const id = album?.id;
  const name = album?.name;
  // The outside system: what is dragged over the page, and what is pasted.
  useEffect(() => {
    if (!add) return;
    const target = id !== undefined && name !== undefined ? { id, name } : undefined;
    let inside = 0;
    const has = (e: DragEvent) => e.dataTransfer?.types.includes("Files") === true && !document.querySelector("[role=dialog], [role=alertdialog]");
    const enter = (e: DragEvent) => {
      if (!has(e)) return;
      inside++;
      setOver(true);
    };
    const leave = (e: DragEvent) => {
      if (!has(e)) return;
      inside = Math.max(0, inside - 1);
      if (inside === 0) setOver(false);
    };
    const move = (e: DragEvent) => has(e) && e.preventDefault();
    const drop = (e: DragEvent) => {
      inside = 0;
      setOver(false);
      if (!has(e) || !e.dataTransfer) return;
      e.preventDefault();
      void dropped(e.dataTransfer.items).then((found) => take(found, target));
    };
    const paste = (e: ClipboardEvent) => {
      const files = [...(e.clipboardData?.files ?? [])];
      if (files.length === 0 || (e.target instanceof HTMLElement && e.target.closest("input, textarea"))) return;
      e.preventDefault();
      add(chosen(files), target);
    };
    window.addEventListener("dragenter", enter);
    window.addEventListener("dragleave", leave);
    window.addEventListener("dragover", move);
    window.addEventListener("drop", drop);
    window.addEventListener("paste", paste);
    return () => {
      window.removeEventListener("dragenter", enter);
      window.removeEventListener("dragleave", leave);
      window.removeEventListener("dragover", move);
      window.removeEventListener("drop", drop);
      window.removeEventListener("paste", paste);
    };
  }, [add, id, name]);
  if (!over) return null;
  return (
    <div className="bg-paper/85 pointer-events-none fixed inset-0 z-30 flex items-center justify-center p-6">
      <p className="border-accent bg-raised m-0 rounded-[10px] border-2 border-dashed px-8 py-6 text-[21px] font-semibold">{name ? `Drop pictures here to add them to “${name}”` : "Drop pictures here to add them to your library"}</p>
    </div>
  );
}

/** Has a file from this computer become the newer version of a picture. */
export function NewVersion({ of, done }: { of: string; done: (version: string) => void }) {
  const adding = use(AddingContext);
  const file = useRef<HTMLInputElement>(null);
  // It may arrive when nobody looks at this picture any more.
  const here = useRef(false);
  const told = useEffectEvent((version: string) => done(version));
  const later = useRef<(version: string) => void>(() => undefined);
  useEffect(() => {
    here.current = true;
    later.current = (version) => here.current && told(version);
    return () => {
      here.current = false;
    };
  }, []);
  const take = (e: React.ChangeEvent<HTMLInputElement>) => {
    const found = chosen(e.target.files ?? []);
    const hears = later.current;
    adding?.add(found, undefined, { id: of, done: (version) => hears(version) });
    e.target.value = "";
  };
  // The tray lies behind this page.
  const last = adding?.items.findLast((i) => i.of?.id === of);
  return (
    <p className="mt-2 mb-0 text-[14.5px]">
      <TextButton onClick={() => file.current?.click()}>Add a newer version …</TextButton>
      <span className="block text-[13px] text-soft">A file from this computer, worked on elsewhere. It is shown from then on; this one stays as it is.</span>
      <span role="status" className="block">
        {last && last.into !== "there" && (
          <>
            {last.file.name}: {last.state === "failed" ? last.why : last.into === "failed" ? "arrived, and could not be shown in its place. Look at this picture’s files, and for it in the library." : last.state === "sending" ? toldOf(last) : "on its way …"}
          </>
        )}
      </span>
      <input ref={file} type="file" hidden aria-label="The newer version" onChange={take} />
    </p>
  );
}

/** The same by a button: files, or a whole folder. */
export function AddButton({ album }: { album?: Target | undefined }) {
  const adding = use(AddingContext);
  const files = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);
  const take = (e: React.ChangeEvent<HTMLInputElement>) => {
    adding?.add(chosen(e.target.files ?? []), album);
    // The same may be chosen once more.
    e.target.value = "";
  };
  const item = "cursor-default rounded px-3 py-2 text-[15px] outline-none select-none data-[highlighted]:bg-line/50";
  return (
    <>
      <DropdownMenu.Root modal={false}>
        <DropdownMenu.Trigger className="border-line bg-raised rounded-lg border px-3.5 py-1.5 text-[15px] font-semibold text-ink hover:border-soft">Add pictures …</DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" sideOffset={6} className="border-line bg-raised z-50 rounded-[10px] border p-1.5 text-ink shadow-lg">
            <DropdownMenu.Item className={item} onSelect={() => files.current?.click()}>
              Files from this computer …
            </DropdownMenu.Item>
            <DropdownMenu.Item className={item} onSelect={() => folder.current?.click()}>
              A folder with all that is in it …
            </DropdownMenu.Item>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      <input ref={files} type="file" multiple hidden aria-label="Files to add" onChange={take} />
      <input ref={folder} type="file" multiple hidden aria-label="A folder to add" onChange={take} {...{ webkitdirectory: "" }} />
    </>
  );
}
