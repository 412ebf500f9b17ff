/** An album in the order that its owner gave it, with words between its pictures; and, for its owner, giving it that order. */
import { useRef, useState, type CSSProperties, type DragEvent, type KeyboardEvent, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { ask, type Album, type OriginalCard, type Schemas } from "../api/client";
import { keys, useArranged, useDo } from "../api/hooks";
import { counted } from "../format";
import { moved, putAt, sent, withWords, without, type Piece } from "../ui/arrange";
import { Button, Page, TextButton } from "../ui/parts";
import { preview } from "../ui/preview";
import { addressOf, shown } from "../ui/sheet";
import { Fault, Waiting } from "../ui/states";

/** The album as it is arranged. */
export function Arranged({ album, actions, lead, back }: { album: Album; actions: ReactNode; lead: ReactNode; back: ReactNode }) {
  const arranged = useArranged(album.id);
  return (
    <div className="px-8 py-[26px] max-lg:px-3 max-lg:py-5">
      <p className="m-0 mb-1">{back}</p>
      <div className="flex flex-wrap items-start justify-between gap-x-5 gap-y-2">
        <h1 className="m-0 min-w-0 text-[29px] leading-tight break-words max-sm:text-[25px]">{album.name}</h1>
        <span className="flex flex-wrap gap-2.5">{actions}</span>
      </div>
      <div className="mt-1 mb-5 text-[16px] text-soft">{lead}</div>
      {arranged.isError ? (
        <Fault failure={arranged.error} again={() => void arranged.refetch()} />
      ) : arranged.isPending ? (
        <Waiting what="the album" />
      ) : (
        <Told album={album.id} steps={arranged.data.steps} />
      )}
    </div>
  );
}

/** Pictures in rows, and between them what is told. */
function Told({ album, steps }: { album: string; steps: Schemas["ArrangedStep"][] }) {
  return (
    <ul aria-label="Pictures and words" className="m-0 flex list-none flex-wrap gap-1.5 p-0 after:grow-[1000000] after:content-['']">
      {steps.map((step, n) =>
        step.picture ? (
          <Shown key={step.picture.id} album={album} picture={step.picture} />
        ) : (
          <li key={`words ${n}`} className="w-full py-4 first:pt-0">
            <p className="m-0 max-w-[62ch] font-head text-[19px] leading-[1.5] break-words whitespace-pre-line">{step.words}</p>
          </li>
        ),
      )}
    </ul>
  );
}

function Shown({ album, picture: p }: { album: string; picture: OriginalCard }) {
  // How wide it is for its height: a row is filled, and nothing is cut to a strip.
  const wide = { "--wide": shown(p.width, p.height) } as CSSProperties;
  return (
    <li className="relative h-[210px] max-w-[calc(var(--wide)*315px)] grow basis-[calc(var(--wide)*180px)] overflow-hidden rounded-[5px] bg-(--line) max-sm:h-[122px] max-sm:max-w-[calc(var(--wide)*190px)] max-sm:basis-[calc(var(--wide)*104px)]" style={wide}>
      <Link to={addressOf({ find: "", album }, { picture: p.id })} state={{ sheet: true, arranged: true }} className="block size-full text-ink no-underline">
        {p.preview === "ready" ? <img src={preview(p.id, p.turned)} alt={p.words ?? p.name} loading="lazy" decoding="async" className="size-full object-cover" /> : <span className="block truncate p-2 text-[13px]">{p.name}</span>}
        {p.kind === "video" && (
          <span aria-hidden className="absolute bottom-1.5 left-1.5 rounded bg-black/65 px-1.5 text-[12.5px] font-semibold text-white">
            ▶
          </span>
        )}
      </Link>
    </li>
  );
}

/** Giving it an order: what is there is asked for once, and changed here until it is saved. */
export function Arranging({ album }: { album: Album }) {
  const arranged = useArranged(album.id);
  if (arranged.isError) {
    return (
      <Page title={`Arrange “${album.name}”`}>
        <Fault failure={arranged.error} again={() => void arranged.refetch()} />
      </Page>
    );
  }
  if (arranged.isPending) return <Waiting what="the album" full />;
  return <Editor album={album} first={arranged.data} />;
}

function Editor({ album, first }: { album: Album; first: Schemas["ArrangedAlbum"] }) {
  const navigate = useNavigate();
  const [begun] = useState(first);
  const [pieces, setPieces] = useState<Piece[]>(() => first.steps.map((s, n) => (s.picture ? { key: s.picture.id, picture: s.picture } : { key: `words ${n}`, words: s.words ?? "" })));
  const [dragged, setDragged] = useState<string>();
  const [said, setSaid] = useState("");
  const list = useRef<HTMLOListElement>(null);
  const save = useDo((steps: Schemas["Arrange"]["steps"]) => ask(`/api/albums/${album.id}/arrangement`, "PUT", { steps, version: begun.version ?? null }), [keys.albums]);
  const done = () => void navigate(`/albums/${album.id}`);
  const go = (key: string, to: number) => {
    const now = moved(pieces, key, to);
    const at = now.findIndex((p) => p.key === key);
    setPieces(now);
    setSaid(`Place ${at + 1} of ${now.length}.`);
  };
  const drop = (e: DragEvent, key: string) => {
    e.preventDefault();
    if (dragged) setPieces(putAt(pieces, dragged, key));
    setDragged(undefined);
  };
  const write = (at: number) => {
    const now = withWords(pieces, at);
    setPieces(now);
    // The field that was just made.
    requestAnimationFrame(() => list.current?.querySelectorAll("li")[at]?.querySelector("textarea")?.focus());
  };
  return (
    <Page
      title={`Arrange “${album.name}”`}
      lead="Drag a picture to its place, or move it by its arrows; say what stands between. Whoever sees the album, also by a link, sees it so. Pictures that are added later come at the end."
      action={
        <span className="flex flex-wrap gap-2.5">
          <Button onClick={done}>Cancel</Button>
          <Button look="strong" disabled={save.isPending} onClick={() => save.mutate(sent(pieces), { onSuccess: done })}>
            Save
          </Button>
        </span>
      }
    >
      {save.isError && <Fault failure={save.error} />}
      <p role="status" className="sr-only">
        {said}
      </p>
      <div className="mt-4 flex flex-wrap gap-x-5 gap-y-2">
        <TextButton onClick={() => write(0)}>Words at the beginning</TextButton>
        {begun.version != null && (
          <TextButton disabled={save.isPending} onClick={() => save.mutate(null, { onSuccess: done })}>
            Show it by time again, without these words
          </TextButton>
        )}
      </div>
      <ol ref={list} aria-label="Pictures and words, in order" className="m-0 mt-3 list-none p-0">
        {pieces.map((piece, n) => (
          <Row
            key={piece.key}
            piece={piece}
            at={n}
            of={pieces.length}
            dragged={dragged === piece.key}
            go={(to) => go(piece.key, to)}
            drag={(on) => setDragged(on ? piece.key : undefined)}
            drop={(e) => drop(e, piece.key)}
            type={(words) => setPieces(pieces.map((p) => (p.key === piece.key ? { ...p, words } : p)))}
            remove={() => setPieces(without(pieces, piece.key))}
            write={() => write(n + 1)}
          />
        ))}
      </ol>
      <p className="mt-4 text-[14.5px] text-soft">{counted(pieces.filter((p) => p.picture).length, "picture")}.</p>
    </Page>
  );
}

interface RowProps {
  piece: Piece;
  at: number;
  of: number;
  dragged: boolean;
  go: (to: number) => void;
  drag: (on: boolean) => void;
  drop: (e: DragEvent) => void;
  type: (words: string) => void;
  remove: () => void;
  write: () => void;
}

const arrow = "border-line bg-raised flex size-[30px] items-center justify-center rounded border p-0 text-[15px] text-ink hover:border-soft disabled:opacity-40";

function Row({ piece, at, of, dragged, go, drag, drop, type, remove, write }: RowProps) {
  const name = piece.picture ? piece.picture.name : `the words “${(piece.words ?? "").slice(0, 20)}”`;
  const press = (e: KeyboardEvent) => {
    const to = { ArrowUp: at - 1, ArrowDown: at + 1, Home: 0, End: of - 1 }[e.key];
    if (to === undefined) return;
    e.preventDefault();
    go(to);
  };
  const begin = (e: DragEvent) => {
    e.dataTransfer.setData("text/plain", name);
    drag(true);
  };
  return (
    <li
      onDragOver={(e) => e.preventDefault()}
      onDrop={drop}
      className={`border-line flex items-start gap-3 border-t py-2.5 ${dragged ? "opacity-45" : ""}`}
    >
      <button type="button" draggable onDragStart={begin} onDragEnd={() => drag(false)} onKeyDown={press} aria-label={`Move ${name}, place ${at + 1} of ${of}; arrows, Home and End move it`} className="flex h-[62px] w-[26px] shrink-0 cursor-grab items-center justify-center rounded border-0 bg-transparent p-0 text-[17px] text-soft hover:text-ink">
        <span aria-hidden>⋮⋮</span>
      </button>
      {piece.picture ? (
        <>
          <span className="block h-[62px] w-[92px] shrink-0 overflow-hidden rounded-[5px] bg-(--line)">{piece.picture.preview === "ready" && <img src={preview(piece.picture.id, piece.picture.turned)} alt="" loading="lazy" decoding="async" draggable={false} className="size-full object-cover" />}</span>
          <span className="min-w-0 grow pt-1.5 text-[15px]">
            <span className="block truncate">{piece.picture.words ?? piece.picture.name}</span>
            <TextButton tone="soft" className="text-[14px]" onClick={write}>
              Words after it
            </TextButton>
          </span>
        </>
      ) : (
        <span className="min-w-0 grow">
          <textarea aria-label={`Words, place ${at + 1} of ${of}`} rows={3} maxLength={2000} value={piece.words} onChange={(e) => type(e.target.value)} className="border-line bg-raised w-full rounded-lg border px-3 py-2 text-[16px] text-ink" />
          <TextButton tone="soft" className="text-[14px]" onClick={remove}>
            Remove these words
          </TextButton>
        </span>
      )}
      <span className="flex shrink-0 gap-1.5 pt-3">
        <button type="button" className={arrow} disabled={at === 0} aria-label={`${name}: one up`} onClick={() => go(at - 1)}>
          ↑
        </button>
        <button type="button" className={arrow} disabled={at === of - 1} aria-label={`${name}: one down`} onClick={() => go(at + 1)}>
          ↓
        </button>
      </span>
    </li>
  );
}
