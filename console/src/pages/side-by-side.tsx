/** Two files of a picture beside each other: the raw file and the JPEG, the picture before somebody worked on it and after. */
import { useState } from "react";
import type { Original, Schemas } from "../api/client";
import { useOriginal } from "../api/hooks";
import { size } from "../format";
import { Button, Dialog, TextButton } from "../ui/parts";
import { preview } from "../ui/preview";
import { Fault } from "../ui/states";

type Part = Schemas["ShotPart"];

/** Whether a file of a picture can be looked at beside the one that stands for it. */
const isSeen = (part: Part) => part.can_stand && (part.kind === "photo" || part.kind === "raw");

export function SideBySide({ original: o, part }: { original: Original; part: Part }) {
  const [open, setOpen] = useState(false);
  const lead = o.parts.find((p) => p.id === o.id);
  if (part.id === o.id || !lead || !isSeen(part) || !isSeen(lead)) return null;
  return (
    <>
      {" "}
      <TextButton tone="soft" className="text-[13.5px]" aria-label={`${part.name} and ${lead.name}, side by side`} onClick={() => setOpen(true)}>
        Side by side
      </TextButton>
      {open && <Both original={o} lead={lead} part={part} onClose={() => setOpen(false)} />}
    </>
  );
}

function Both({ original: o, lead, part, onClose }: { original: Original; lead: Part; part: Part; onClose: () => void }) {
  const other = useOriginal(part.id, { find: "" });
  return (
    <Dialog open onOpenChange={(is) => !is && onClose()} title="Two files of this picture" wide>
      {other.isError && <Fault failure={other.error} again={() => void other.refetch()} />}
      <div className="flex gap-4 max-sm:flex-col">
        <Seen original={o} file={lead} says="It is shown." />
        {other.data?.id === part.id ? <Seen original={other.data} file={part} says="It is kept beside it." /> : <p className="m-0 flex-1 text-soft">{other.isError ? "" : "Looking …"}</p>}
      </div>
      <p className="mt-3 mb-0 text-[14px] text-soft">Both are shown by previews of up to 2,048 pixels. Of a raw file, that is what its camera made of it, if the file has that.</p>
      <div className="mt-4 flex justify-end">
        <Button onClick={onClose}>Close</Button>
      </div>
    </Dialog>
  );
}

function Seen({ original: o, file, says }: { original: Original; file: Part; says: string }) {
  return (
    <figure className="m-0 min-w-0 flex-1">
      <div className="flex h-[300px] items-center justify-center overflow-hidden rounded-lg bg-[#14160f] max-sm:h-[220px]">
        {o.preview === "ready" ? <img src={preview(o.id, o.turned, "large")} alt={file.name} className="max-h-full max-w-full" /> : <span className="px-4 text-center text-[15px] text-[#d9d6c8]">{o.preview === "waiting" ? "Its preview is being made." : "There is no preview of this file."}</span>}
      </div>
      <figcaption className="mt-1.5 text-[14.5px] break-words">
        {file.name}
        <span className="block text-soft">{says} {[o.width && o.height && `${o.width} × ${o.height}`, size(file.size)].filter(Boolean).join(", ")}</span>
      </figcaption>
    </figure>
  );
}
