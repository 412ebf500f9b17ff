/** The albums: one below the other, each with its name, who sees it, and its newest pictures in a strip. */
import { useEffect, useRef, useState, type FormEvent } from "react";
import { Link, useNavigate } from "react-router";
import { ask, type Album, type Me } from "../api/client";
import { keys, useAlbums, useDo, useSome } from "../api/hooks";
import { counted, possessive, span } from "../format";
import { Button, Dialog, Field, Page } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";
import { BroughtNote } from "../ui/brought";
import { Strip } from "../ui/strip";
import { FOLLOWS } from "./follows";

const HEIGHT = 104;
/** So many of its pictures are shown beside its name. */
const SOME = 16;

export function Albums({ me }: { me: Me }) {
  const albums = useAlbums();
  const [making, setMaking] = useState(false);
  return (
    <Page
      title="Albums"
      lead={albums.data && albums.data.length > 0 ? told(albums.data) : undefined}
      action={
        <Button look="strong" onClick={() => setMaking(true)}>
          New album …
        </Button>
      }
    >
      <BroughtNote />
      {albums.isError ? (
        <Fault failure={albums.error} again={() => void albums.refetch()} />
      ) : albums.isPending ? (
        <Waiting what="the albums" />
      ) : albums.data.length === 0 ? (
        <Empty title="No albums yet">
          Gather pictures here{me.role === "guest" ? "" : ", alone or with others"}. A picture stays in the library, and can be in several albums; an album that somebody shares with you appears here by itself.
        </Empty>
      ) : (
        <ul className="m-0 mt-5 list-none p-0">
          {albums.data.map((a) => (
            <Line key={a.id} album={a} />
          ))}
        </ul>
      )}
      {making && <Making onClose={() => setMaking(false)} />}
    </Page>
  );
}

/** "3 of yours, and 2 that others share with you." */
function told(albums: readonly Album[]): string {
  const own = albums.filter((a) => a.may === "own").length;
  const others = albums.length - own;
  if (others === 0) return `${counted(own, "album")} of yours.`;
  if (own === 0) return `${counted(others, "album")} that others share with you.`;
  return `${own} of yours, and ${others} that others share with you.`;
}

/** Who sees an album, and what whoever reads this may do there. */
export function shares(a: Album): string {
  if (a.may !== "own") return `${possessive(a.owner_name)}${a.may === "add" ? "; you may add to it." : "."}`;
  // Where one album is asked for, its owner is told who they are.
  const named = a.people?.filter((p) => p.may) ?? [];
  if (named.length > 0 && named.length <= 3 && !a.household) return `${named.map((p) => `${p.name} sees it${p.may === "add" ? " and may add" : ""}`).join("; ")}.`;
  const people = `${counted(a.shared_with, "person", "people")} ${a.shared_with === 1 ? "sees" : "see"} it.`;
  if (a.household) return `All who live here see it${a.household === "add" ? " and may add" : ""}.${a.shared_with > 0 ? ` By name, ${people}` : ""}`;
  return a.shared_with > 0 ? people : "Only you see it.";
}

/** How much is in it, and from when. */
export function size(a: Album): string {
  if (a.pictures === 0) return "Empty.";
  return `${counted(a.pictures, "picture")}${a.oldest && a.newest ? `, ${span(a.oldest, a.newest)}` : ""}.`;
}

function Line({ album: a }: { album: Album }) {
  const line = useRef<HTMLLIElement>(null);
  const [near, setNear] = useState(false);
  // The outside system: what of the page is on the screen.
  useEffect(() => {
    if (!line.current) return;
    const watcher = new IntersectionObserver((entries) => entries.some((e) => e.isIntersecting) && setNear(true), { rootMargin: "600px" });
    watcher.observe(line.current);
    return () => watcher.disconnect();
  }, []);
  const among = { find: "", album: a.id };
  const some = useSome(among, SOME, near && a.pictures > 0);
  const pictures = some.data?.originals ?? [];
  // The one that stands for it comes first.
  const cover = pictures.find((p) => p.id === a.cover);
  const ordered = a.cover_chosen && cover ? [cover, ...pictures.filter((p) => p !== cover)] : pictures;
  return (
    <li ref={line} className="border-line border-t py-5">
      <div className="mb-2.5 flex flex-wrap items-baseline gap-x-4 gap-y-0.5">
        <h2 className="m-0 min-w-0 text-[21px] break-words">
          <Link to={`/albums/${a.id}`} className="text-ink no-underline hover:underline">
            {a.name}
          </Link>
        </h2>
        <span className="text-[15px] text-soft">
          {size(a)} {shares(a)}
        </span>
      </div>
      {a.pictures > 0 && (
        <div style={{ minHeight: HEIGHT + 4 }}>{some.isError ? <Fault failure={some.error} again={() => void some.refetch()} /> : <Strip among={among} pictures={ordered} height={HEIGHT} />}</div>
      )}
    </li>
  );
}

/** Makes an album of what is looked for, which follows that. */
export function KeepAsAlbum({ line }: { line: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" onClick={() => setOpen(true)} className="border-0 bg-transparent px-1 text-[15px] text-soft underline underline-offset-4 hover:text-ink">
        Keep as an album …
      </button>
      {open && <Making follows={line} onClose={() => setOpen(false)} />}
    </>
  );
}

function Making({ follows, onClose }: { follows?: string; onClose: () => void }) {
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const make = useDo(() => ask<Album>("/api/albums", "POST", { name, follows }), [keys.albums]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(undefined, { onSuccess: (album) => void navigate(`/albums/${album.id}`) });
  };
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title="A new album">
      <form onSubmit={submit}>
        {follows && (
          <p className="mt-0">
            It follows <b className="font-semibold break-words">{follows}</b>. {FOLLOWS}
          </p>
        )}
        <Field label="Its name" maxLength={100} required autoFocus value={name} onChange={(e) => setName(e.target.value)} hint="Only you see it until you share it." />
        {make.isError && <Fault failure={make.error} />}
        <div className="mt-5 flex justify-end">
          <Button look="strong" type="submit" disabled={make.isPending || name.trim() === ""}>
            Make it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
