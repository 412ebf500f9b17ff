/** What people outside brought by a link: looked at here, and taken or declined. */
import { useState } from "react";
import { Link } from "react-router";
import { ask, type Schemas } from "../api/client";
import { keys, useBrought, useDo } from "../api/hooks";
import { ago, count, counted, size } from "../format";
import { Tick } from "../ui/choose";
import { Button, Page } from "../ui/parts";
import { preview } from "../ui/preview";
import { shown } from "../ui/sheet";
import { Empty, Fault, Waiting } from "../ui/states";
import { useBlur } from "../ui/thumb";

type Picture = Schemas["BroughtPicture"];

const HEIGHT = 150;

/** What came for one album from one person. */
function bundles(pictures: readonly Picture[]): [string, Picture[]][] {
  const all = new Map<string, Picture[]>();
  for (const p of pictures) {
    const key = JSON.stringify([p.album, p.by]);
    all.set(key, [...(all.get(key) ?? []), p]);
  }
  return [...all];
}

export function BroughtPage() {
  const brought = useBrought();
  const back = (
    <Link to="/albums" className="text-[15px] text-soft underline underline-offset-4 hover:text-ink">
      Albums
    </Link>
  );
  const waiting = brought.data?.waiting;
  return (
    <Page title="Brought by people with a link" lead={back}>
      {brought.isError ? (
        <Fault failure={brought.error} again={() => void brought.refetch()} />
      ) : brought.isPending ? (
        <Waiting what="what was brought" />
      ) : brought.data.pictures.length === 0 ? (
        <Empty title="Nothing waits for you">What people bring by a link of yours waits here until you have looked at it. Whether a link takes pictures is said where it is made, on the page of its album.</Empty>
      ) : (
        <>
          <p className="mt-4 mb-0 max-w-prose text-[16px]">
            {counted(waiting?.count ?? 0, "picture")}, {size(waiting?.bytes ?? 0)}. What you take is in your library, and in the album that it was brought for: everybody sees it who sees that album. What you decline is deleted; until it is removed for good, you can bring it back under Restore.
          </p>
          {bundles(brought.data.pictures).map(([key, pictures]) => (
            <Bundle key={key} pictures={pictures} />
          ))}
          {(waiting?.count ?? 0) > brought.data.pictures.length && <p className="mt-6 text-soft">{`${count((waiting?.count ?? 0) - brought.data.pictures.length)} more follow when something was done with these.`}</p>}
        </>
      )}
    </Page>
  );
}

function Bundle({ pictures }: { pictures: Picture[] }) {
  const [marked, setMarked] = useState<ReadonlySet<string>>(new Set());
  const judge = useDo((take: boolean) => ask("/api/brought", "POST", { pictures: chosen.map((p) => p.id), take }), [keys.albums]);
  const some = pictures.filter((p) => marked.has(p.id));
  const chosen = some.length > 0 ? some : pictures;
  const [first] = pictures;
  const who = first?.by || "Somebody with a link";
  const which = some.length > 0 ? count(some.length) : pictures.length === 1 ? "it" : `all ${count(pictures.length)}`;
  const mark = (id: string, on: boolean) => {
    const next = new Set(marked);
    if (on) next.add(id);
    else next.delete(id);
    setMarked(next);
  };
  return (
    <section aria-label={`From ${who}`} className="border-line mt-6 border-t pt-4">
      <div className="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h2 className="m-0 min-w-0 text-[21px] break-words">{who}</h2>
        <span className="min-w-0 text-[15px] break-words text-soft">
          {counted(pictures.length, "picture")} {first?.album_name ? `for “${first.album_name}”` : "for an album that was removed"}
          {first && `, ${ago(first.at)}`}
        </span>
        <span className="ml-auto flex gap-2.5">
          <Button disabled={judge.isPending} onClick={() => judge.mutate(false)}>
            Decline {which}
          </Button>
          <Button look="strong" disabled={judge.isPending} onClick={() => judge.mutate(true)}>
            Take {which}
          </Button>
        </span>
      </div>
      {judge.isError && <Fault failure={judge.error} />}
      <ul className="m-0 flex list-none flex-wrap gap-2 p-0">
        {pictures.map((p) => (
          <Tile key={p.id} picture={p} marked={marked.has(p.id)} mark={(on) => mark(p.id, on)} />
        ))}
      </ul>
    </section>
  );
}

function Tile({ picture: p, marked, mark }: { picture: Picture; marked: boolean; mark: (on: boolean) => void }) {
  const blur = useBlur(p.placeholder);
  return (
    <li className={`relative overflow-hidden rounded-[5px] ${marked ? "outline-accent outline-[3px]" : ""}`} style={{ height: HEIGHT, width: Math.min(HEIGHT * shown(p.width, p.height), 330), background: blur ? `center / cover url(${blur})` : "var(--line)" }}>
      <Link to={`/library/${p.id}`} className="flex size-full items-center justify-center text-[13px] text-ink no-underline">
        {p.preview === "ready" ? <img src={preview(p.id, p.turned)} alt={p.name} loading="lazy" decoding="async" className="size-full object-cover" /> : <span className="px-3 break-all">{p.name}</span>}
        {p.kind === "video" && (
          <span aria-hidden className="absolute bottom-1.5 left-1.5 rounded bg-black/65 px-1.5 text-[12.5px] font-semibold text-white">
            ▶
          </span>
        )}
      </Link>
      <span className="absolute top-1.5 left-1.5">
        <Tick aria-label={`Choose ${p.name}`} checked={marked} onChange={mark} className="size-[26px]!" />
      </span>
    </li>
  );
}
