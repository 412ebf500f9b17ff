/** Which album pictures are put into: one that is there, or a new one. */
import { useState, type FormEvent } from "react";
import { ask, type Album, type Failure } from "../api/client";
import { keys, useAlbums, useDo } from "../api/hooks";
import { counted } from "../format";
import { Button, Dialog, Field } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";

/** No list of albums is shown with more lines before somebody types a part of a name. */
const MOST = 12;

interface ToAlbumProps {
  /** So many are to be added. */
  pictures: number;
  busy: boolean;
  failure: Failure | null;
  onAlbum: (album: Album) => void;
  onClose: () => void;
}

export function ToAlbum({ pictures, busy, failure, onAlbum, onClose }: ToAlbumProps) {
  const albums = useAlbums();
  const [name, setName] = useState("");
  const [part, setPart] = useState("");
  const make = useDo((called: string) => ask<Album>("/api/albums", "POST", { name: called }), [keys.albums]);
  const mine = (albums.data ?? []).filter((a) => a.may !== "look");
  const plain = (text: string) => text.toLocaleLowerCase();
  const named = mine.filter((a) => plain(a.name).includes(plain(part.trim())));
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(name, { onSuccess: onAlbum });
  };
  const them = pictures === 1 ? "it" : "them";
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title={pictures === 1 ? "Add it to an album" : `Add ${counted(pictures, "picture")} to an album`}>
      {albums.isError ? (
        <Fault failure={albums.error} again={() => void albums.refetch()} />
      ) : albums.isPending ? (
        <Waiting what="the albums" />
      ) : (
        <>
          {mine.length > MOST && <Field label="A part of its name" value={part} onChange={(e) => setPart(e.target.value)} />}
          {mine.length === 0 && <p className="m-0 text-soft">There is no album yet that you can add to.</p>}
          <ul className="m-0 max-h-[40vh] list-none overflow-y-auto p-0">
            {named.slice(0, part.trim() ? named.length : MOST).map((a) => (
              <li key={a.id} className="border-line border-t first:border-t-0">
                <button type="button" disabled={busy} onClick={() => onAlbum(a)} className="flex w-full items-baseline justify-between gap-4 rounded border-0 bg-transparent px-1 py-2 text-left text-[16px] text-ink hover:bg-line/40 disabled:opacity-50">
                  <span className="min-w-0 break-words">
                    {a.name}
                    {a.may !== "own" && <span className="block text-[13.5px] text-soft">{a.owner_name}’s</span>}
                  </span>
                  <span className="numbers shrink-0 text-[14px] text-soft">{counted(a.pictures, "picture")}</span>
                </button>
              </li>
            ))}
          </ul>
          {mine.length > 0 && named.length === 0 && <p className="m-0 text-soft">No album has that in its name.</p>}
          <form onSubmit={submit} className="border-line mt-4 flex flex-wrap items-end gap-3 border-t pt-4">
            <span className="min-w-0 grow">
              <Field label="A new album" placeholder="Its name" maxLength={100} required value={name} onChange={(e) => setName(e.target.value)} />
            </span>
            <Button look="strong" type="submit" disabled={busy || make.isPending || name.trim() === ""} className="py-[9px]">
              Make it, and add {them}
            </Button>
          </form>
          {make.isError && <Fault failure={make.error} />}
          {failure && <Fault failure={failure} />}
        </>
      )}
    </Dialog>
  );
}
