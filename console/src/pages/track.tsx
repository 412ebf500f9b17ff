/** A track that somebody dropped onto a page: where they were then, for the pictures that they took meanwhile. */
import { useEffect, useEffectEvent, useState } from "react";
import { ask, type Schemas } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { counted, exact, size } from "../format";
import { Button, Dialog } from "../ui/parts";
import { Fault } from "../ui/states";
import { LARGEST_TRACK } from "./said-where";

type Along = Schemas["Along"];

export function DroppedTrack({ file, onClose }: { file: File; onClose: () => void }) {
  const [gpx, setGpx] = useState<string>();
  const [done, setDone] = useState<Along>();
  const look = useDo((track: string) => ask<Along>("/api/places/track", "POST", { gpx: track, taken_meanwhile: true, only_say: true }), []);
  const give = useDo((track: string) => ask<Along>("/api/places/track", "POST", { gpx: track, taken_meanwhile: true }), [keys.towns, ["library"]]);
  const tooLarge = file.size > LARGEST_TRACK;
  const read = useEffectEvent(async () => {
    if (tooLarge) return;
    const text = await file.text();
    setGpx(text);
    look.mutate(text);
  });
  // The outside system: the file that was dropped.
  useEffect(() => void read(), []);
  const found = look.data;
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title={`The track “${file.name}”`}>
      <div role="status">
        {tooLarge ? (
          <p className="m-0">{`It is larger than ${size(LARGEST_TRACK)}. Take a track of fewer days.`}</p>
        ) : done ? (
          <p className="m-0">
            {counted(done.count, "picture")} {done.count === 1 ? "has" : "have"} the place where you were then.
          </p>
        ) : found ? (
          <>
            {found.from && found.until && <p className="mt-0 text-soft">{`From ${exact(found.from)} to ${exact(found.until)}.`}</p>}
            <p className="m-0">
              {found.count > 0 ? `It tells where ${counted(found.count, "picture")} of yours without a place ${found.count === 1 ? "was" : "were"} taken.` : "It tells of no picture of yours without a place where it was taken."}
              {found.placed > 0 && ` ${counted(found.placed, "picture")} of those days ${found.placed === 1 ? "has a place and keeps" : "have one and keep"} it.`}
              {found.off_it > 0 && ` Of ${counted(found.off_it, "picture")} it does not tell.`}
            </p>
          </>
        ) : (
          !look.isError && <p className="m-0">Reading it …</p>
        )}
      </div>
      {(look.isError || give.isError) && <Fault failure={look.error ?? (give.error as NonNullable<typeof give.error>)} />}
      <div className="mt-5 flex flex-wrap justify-end gap-2.5">
        <Button onClick={onClose}>{done || !found?.count ? "Close" : "Cancel"}</Button>
        {!done && found && found.count > 0 && gpx !== undefined && (
          <Button look="strong" disabled={give.isPending} onClick={() => give.mutate(gpx, { onSuccess: setDone })}>
            {`Give ${found.count === 1 ? "it its place" : "them their places"}`}
          </Button>
        )}
      </div>
    </Dialog>
  );
}
