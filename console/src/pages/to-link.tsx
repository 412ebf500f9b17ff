/** Pictures for somebody outside: a link shows an album, so one is made of them first. */
import { useState, type FormEvent } from "react";
import { ask, type Album, type Failure } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { counted, date } from "../format";
import { Button, Dialog, Field } from "../ui/parts";
import { Fault } from "../ui/states";

interface ToLinkProps {
  pictures: number;
  /** It is being filled. */
  busy?: boolean;
  failure?: Failure | null;
  onAlbum: (album: Album) => void;
  onClose: () => void;
}

export function ToLink({ pictures, busy = false, failure = null, onAlbum, onClose }: ToLinkProps) {
  const [name, setName] = useState(`Pictures, ${date(new Date().toISOString())}`);
  const make = useDo((called: string) => ask<Album>("/api/albums", "POST", { name: called }), [keys.albums]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(name, { onSuccess: onAlbum });
  };
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title={pictures === 1 ? "Show it to somebody outside" : `Show ${counted(pictures, "picture")} to somebody outside`}>
      <form onSubmit={submit}>
        <p className="mt-0 text-soft">A link shows an album, and this makes one of what you chose. Nobody else sees it; you can add to it, or take it apart, under Albums. Next you say what the link hands out, and how long it opens.</p>
        <Field label="What the album is called; whoever opens the link reads it" maxLength={100} required autoFocus value={name} onChange={(e) => setName(e.target.value)} />
        {(make.isError || failure) && <Fault failure={make.error ?? (failure as Failure)} />}
        <div className="mt-5 flex flex-wrap justify-end gap-2.5">
          <Button onClick={onClose}>Cancel</Button>
          <Button look="strong" type="submit" disabled={busy || make.isPending || name.trim() === ""}>
            Make the album
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

/** The page of an album, with what makes a link open. */
export const withLink = (album: Album) => [`/albums/${album.id}`, { state: { link: true } }] as const;
