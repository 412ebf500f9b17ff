/** The copy of a picture that a store has, beside the one at home: fetched, opened, compared. */
import { useEffect, useState } from "react";
import { askFor, type Original, type Schemas } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { size } from "../format";
import { Button, Dialog, TextButton } from "../ui/parts";
import { Fault } from "../ui/states";
import { SHOWN } from "./picture";

type Copy = Schemas["StoreCopy"];
/** A browser takes no more than this into its memory; what is larger is kept as a file. */
const LARGEST = 100_000_000;

export function StoreCopies({ original: o }: { original: Original }) {
  const [open, setOpen] = useState<Copy>();
  if (o.copies.length === 0) return null;
  return (
    <p className="mt-3 mb-0 flex flex-wrap gap-x-3 gap-y-1 text-[14.5px]">
      {o.copies.map((copy) => (
        <TextButton key={copy.store} onClick={() => setOpen(copy)}>
          See the copy in {copy.name}
        </TextButton>
      ))}
      {open && <Beside original={o} copy={open} onClose={() => setOpen(undefined)} />}
    </p>
  );
}

function Beside({ original: o, copy, onClose }: { original: Original; copy: Copy; onClose: () => void }) {
  const [shown, setShown] = useState<string>();
  const path = `/api/originals/${o.id}/copies/${copy.store}`;
  const isShown = SHOWN.includes(o.media_type ?? "") && o.size <= LARGEST;
  const fetching = useDo(async () => URL.createObjectURL(await askFor(`${path}?look=true`)), [keys.original(o.id)]);
  // What was fetched is let go with the question.
  useEffect(() => () => (shown ? URL.revokeObjectURL(shown) : undefined), [shown]);
  const file = o.path.split("/").pop() ?? o.name;
  const figure = "m-0 min-w-0 flex-1";
  const frame = "flex h-[300px] items-center justify-center overflow-hidden rounded-lg bg-[#14160f] max-sm:h-[180px]";
  return (
    <Dialog open onOpenChange={(is) => !is && onClose()} title={`The copy in ${copy.name}`} wide>
      <p className="mt-0">
        {size(o.size)} are fetched from the store, opened, and compared with what your device sent: only if each byte is the same is it shown. Some stores charge for what is taken out of them.
      </p>
      {isShown && (
        <div className="flex gap-4 max-sm:flex-col">
          <figure className={figure}>
            <div className={frame}>
              <img src={`/api/originals/${o.id}/bytes?look=true`} alt={`${file}, at home`} className="max-h-full max-w-full" />
            </div>
            <figcaption className="mt-1.5 text-[14.5px]">At home</figcaption>
          </figure>
          <figure className={figure}>
            <div className={frame}>{shown ? <img src={shown} alt={`${file}, as it came from ${copy.name}`} className="max-h-full max-w-full" /> : <span className="px-4 text-center text-[15px] text-[#d9d6c8]">{fetching.isPending ? "Fetching …" : "Not fetched yet"}</span>}</div>
            <figcaption className="mt-1.5 text-[14.5px]">
              {copy.name}
              {shown && (
                <span role="status" className="block text-soft">
                  Fetched, opened and compared just now: each byte is the same.
                </span>
              )}
            </figcaption>
          </figure>
        </div>
      )}
      {!isShown && <p className="text-soft">{o.size > LARGEST ? "It is too large to be shown here." : "Browsers do not show files of this kind."} It can be downloaded from the store.</p>}
      {fetching.isError && <Fault failure={fetching.error} />}
      <div className="mt-4 flex flex-wrap items-center justify-end gap-2.5">
        {shown ? (
          <a href={shown} download={file} className="text-ink underline underline-offset-4">
            Keep this copy as a file
          </a>
        ) : (
          !isShown && (
            <a href={path} download={file} className="text-ink underline underline-offset-4">
              Download it from {copy.name}
            </a>
          )
        )}
        <Button onClick={onClose}>Close</Button>
        {isShown && !shown && (
          <Button look="strong" disabled={fetching.isPending} onClick={() => fetching.mutate(undefined, { onSuccess: setShown })}>
            Fetch and compare
          </Button>
        )}
      </div>
    </Dialog>
  );
}
