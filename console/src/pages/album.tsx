/** One album: its pictures as the library shows them, and for whoever owns it, who sees it and what it is called. */
import { useState, type FormEvent, type ReactNode } from "react";
import { Link, useLocation, useNavigate, useParams } from "react-router";
import { ask, type Album, type Me, type Schemas } from "../api/client";
import { keys, useAlbum, useDo } from "../api/hooks";
import { counted } from "../format";
import { AddButton, DropPlace } from "../ui/adding";
import { BroughtNote } from "../ui/brought";
import { Select } from "../ui/choose";
import { Confirm } from "../ui/confirm";
import { Button, Dialog, Field, Page } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";
import { shares, size } from "./albums";
import { Arranged, Arranging } from "./arranged";
import { Browse } from "./browse";
import { FOLLOWS, Follows } from "./follows";
import { Links } from "./links";

export function AlbumPage({ me }: { me: Me }) {
  const { album: id = "", id: picture } = useParams();
  const { search, state } = useLocation();
  const query = new URLSearchParams(search);
  const find = query.get("find")?.trim() ?? "";
  const album = useAlbum(id);
  const back = (
    <Link to="/albums" className="text-[15px] text-soft underline underline-offset-4 hover:text-ink">
      Albums
    </Link>
  );
  if (album.isError && album.error.kind === "not-found") {
    return (
      <Page title="Album" lead={back}>
        <Empty title="This album is not here">It was removed, or is shared with you no more. Its pictures are in the libraries of those who took them.</Empty>
      </Page>
    );
  }
  if (album.isError) {
    return (
      <div className="p-8">
        <Fault failure={album.error} again={() => void album.refetch()} />
      </div>
    );
  }
  if (album.isPending) return <Waiting what="the album" full />;
  const a = album.data;
  const own = a.may === "own";
  if (own && query.has("arrange")) return <Arranging album={a} />;
  const actions = a.may !== "look" && (
    <>
      <AddButton album={{ id, name: a.name }} />
      <DropPlace album={{ id, name: a.name }} />
      {own && <Owner album={a} guest={me.role === "guest"} />}
    </>
  );
  const about = (
    <>
      {size(a)} {shares(a)}
      {a.pictures > 0 && (
        <>
          {" "}
          <Way to={`/places?album=${id}`}>On the map</Way>
        </>
      )}
      {a.follows && (
        <>
          {" · "}It follows <Way to={`/library?find=${encodeURIComponent(a.follows)}`}>{a.follows}</Way>.
        </>
      )}
    </>
  );
  const words = (
    <>
      {own && <BroughtNote album={id} />}
      {a.follows_not && (
        <p role="status" className="mt-2 mb-0 max-w-prose text-oxide">
          It does not follow that now. {a.follows_not} “Edit …” leads there.
        </p>
      )}
      {a.words && <p className="mt-2 mb-0 max-w-prose whitespace-pre-line text-ink">{a.words}</p>}
    </>
  );
  const laid = a.arranged && a.pictures > 0 && a.pictures <= MOST_ARRANGED && !find;
  if (laid && !picture && !query.has("by") && !query.has("at")) {
    return (
      <Arranged
        album={a}
        back={back}
        actions={actions}
        lead={
          <>
            {about} · <Way to={`/albums/${id}?by=time`}>By time</Way>
            {words}
          </>
        }
      />
    );
  }
  return (
    <Browse
      key={id}
      among={{ find, album: id }}
      title={a.name}
      back={back}
      album={a}
      arranged={laid && !fromTime(state)}
      actions={actions}
      says={(total) => (
        <>
          {find ? (total > 0 ? `${counted(total, "picture")} of this album.` : "No picture of this album is like that.") : about}
          {a.arranged && (
            <>
              {" · "}
              <Way to={`/albums/${id}`}>As it is arranged</Way>
            </>
          )}
          {words}
        </>
      )}
      empty={
        <Empty title="Nothing in it yet">
          {a.may === "look" ? "Whoever owns it, or may add to it, puts pictures into it." : "Drop pictures onto this page, or choose some in the library and add them to this album. Only pictures of your own can be added."}
        </Empty>
      }
    />
  );
}

/** Whether a picture was opened where they lie by time. */
const fromTime = (state: unknown) => typeof state === "object" && state !== null && "sheet" in state && !("arranged" in state);

/** An album of more pictures is shown by time. */
const MOST_ARRANGED = 1000;

function Way({ to, children }: { to: string; children: ReactNode }) {
  return (
    <Link to={to} className="text-ink underline decoration-line underline-offset-4 hover:decoration-ink">
      {children}
    </Link>
  );
}

/** What whoever owns it can do with it. */
function Owner({ album, guest }: { album: Album; guest: boolean }) {
  // Whoever made it for a link comes here for that.
  const { state } = useLocation();
  const forLink = typeof state === "object" && state !== null && "link" in state;
  const [open, setOpen] = useState<"share" | "link" | "edit" | undefined>(forLink ? "link" : undefined);
  return (
    <>
      {!guest && <Button onClick={() => setOpen("share")}>Share …</Button>}
      {!guest && <Button onClick={() => setOpen("link")}>Link …</Button>}
      <Button onClick={() => setOpen("edit")}>Edit …</Button>
      {open === "share" && <Share album={album} onClose={() => setOpen(undefined)} />}
      {open === "link" && <Links album={album} onClose={() => setOpen(undefined)} />}
      {open === "edit" && <Edit album={album} onClose={() => setOpen(undefined)} />}
    </>
  );
}

const change = (id: string) => (form: Schemas["AlbumChange"]) => ask<Album>(`/api/albums/${id}`, "PATCH", form);

type Word = "nothing" | "look" | "add";
type Choices = readonly (readonly [Word, string])[];
const MAY: Choices = [
  ["nothing", "do not see it"],
  ["look", "may look"],
  ["add", "may look and add"],
];
/** What can be said of one person: of whoever lives here no less than of everybody who does. */
function choices(household: Word, guest: boolean): Choices {
  if (guest || household === "nothing") return [["nothing", "does not see it"], ["look", "may look"], ["add", "may look and add"]];
  if (household === "look") return [["nothing", "may look, as everybody"], ["add", "may look and add"]];
  return [["nothing", "may add, as everybody"]];
}
/** What was said before may be less than everybody may now. */
const within = (all: Choices, may: Word): Word => (all.some(([one]) => one === may) ? may : "nothing");
const word = (may: string | null | undefined): Word => (may === "look" || may === "add" ? may : "nothing");

/** Who sees an album, person by person. */
function Share({ album, onClose }: { album: Album; onClose: () => void }) {
  const [household, setHousehold] = useState<Word>(word(album.household));
  const [with_, setWith] = useState(() => new Map(album.people?.map((p) => [p.person, word(p.may)])));
  const save = useDo(change(album.id), [keys.albums]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    const named = [...with_].filter(([, may]) => may !== "nothing").map(([person, may]) => ({ person, may }));
    save.mutate({ household, with: named }, { onSuccess: onClose });
  };
  const people = album.people ?? [];
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title={`Who sees “${album.name}”?`}>
      <form onSubmit={submit}>
        <p className="text-soft">Whoever sees it can look at its pictures and download them as they are, with the place where each was taken. They see nothing else of yours.</p>
        {album.follows && <Follows line={album.follows} />}
        <ul className="m-0 list-none p-0">
          <Who name="All who live here" note="Guests are not among them." choices={MAY} may={household} onMay={setHousehold} />
          {people.map((p) => (
            <Who key={p.person} name={p.name} note={p.guest ? "A guest" : undefined} choices={choices(household, p.guest)} may={with_.get(p.person) ?? "nothing"} onMay={(may) => setWith(new Map(with_).set(p.person, may))} />
          ))}
        </ul>
        {people.length === 0 && <p className="mt-3 mb-0 text-soft">Nobody else is in this household yet. The keeper adds people under Devices and people.</p>}
        {save.isError && <Fault failure={save.error} />}
        <div className="mt-5 flex justify-end gap-2.5">
          <Button onClick={onClose}>Cancel</Button>
          <Button look="strong" type="submit" disabled={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

function Who({ name, note, choices, may, onMay }: { name: string; note?: string | undefined; choices: Choices; may: Word; onMay: (may: Word) => void }) {
  return (
    <li className="border-line flex flex-wrap items-center justify-between gap-x-4 gap-y-1.5 border-t py-2.5">
      <span className="min-w-0 break-words">
        <b className="font-semibold">{name}</b>
        {note && <span className="block text-[13.5px] text-soft">{note}</span>}
      </span>
      <Select label={name} value={within(choices, may)} choices={choices} onChange={onMay} className="w-[232px]" />
    </li>
  );
}

/** What it is called, what is written about it; and the way to be rid of it. */
function Edit({ album, onClose }: { album: Album; onClose: () => void }) {
  const navigate = useNavigate();
  const [name, setName] = useState(album.name);
  const [words, setWords] = useState(album.words);
  const [follows, setFollows] = useState(album.follows ?? "");
  const [asking, setAsking] = useState(false);
  const save = useDo(change(album.id), [keys.albums]);
  const remove = useDo(() => ask(`/api/albums/${album.id}`, "DELETE"), [keys.albumList]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    // What it means was seen to, if it is saved once more.
    const says = follows.trim() !== (album.follows ?? "") || album.follows_not ? { follows } : {};
    save.mutate({ name, words, ...says }, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title="Edit the album">
      <form onSubmit={submit}>
        <Field label="Name" maxLength={100} required value={name} onChange={(e) => setName(e.target.value)} />
        <label className="mt-4 block">
          <span className="mb-1 block text-[14px] font-semibold">About it</span>
          <textarea rows={4} maxLength={2000} value={words} onChange={(e) => setWords(e.target.value)} className="border-line bg-raised w-full rounded-lg border px-3 py-2 text-[16px] text-ink" />
        </label>
        <div className="mt-4">
          <Field label="It follows" maxLength={500} value={follows} onChange={(e) => setFollows(e.target.value)} placeholder="Nothing; or days, names, places, kinds: Leiden 2026" hint={follows.trim() || !album.follows ? FOLLOWS : "It follows nothing any more, and what is in it stays."} />
        </div>
        {album.pictures > 0 && album.pictures <= MOST_ARRANGED && (
          <p className="mt-3 mb-0 text-[15px]">
            <Link to={`/albums/${album.id}?arrange`} className="text-accent font-semibold">
              {album.arranged ? "Arrange it otherwise" : "Arrange it by hand"}
            </Link>
            <span className="block text-[14px] text-soft">Its pictures in an order of your own, with words between them.</span>
          </p>
        )}
        {save.isError && <Fault failure={save.error} />}
        <div className="mt-5 flex flex-wrap justify-between gap-2.5">
          <Button look="danger" onClick={() => setAsking(true)}>
            Remove the album …
          </Button>
          <span className="flex gap-2.5">
            <Button onClick={onClose}>Cancel</Button>
            <Button look="strong" type="submit" disabled={save.isPending || name.trim() === ""}>
              Save
            </Button>
          </span>
        </div>
      </form>
      {asking && (
        <Confirm title={`Remove “${album.name}”?`} action="Remove" busy={remove.isPending} failure={remove.error} onConfirm={() => remove.mutate(undefined, { onSuccess: () => void navigate("/albums", { replace: true }) })} onClose={() => setAsking(false)}>
          <p className="mt-0">
            {album.pictures > 0 ? `Its ${counted(album.pictures, "picture")} ${album.pictures === 1 ? "stays" : "stay"} in the library; only the album itself is removed.` : "It is empty."} This cannot be undone.
            {(album.shared_with > 0 || album.household) && " Nobody sees its pictures through it any more."} Links to it end.
          </p>
        </Confirm>
      )}
    </Dialog>
  );
}
