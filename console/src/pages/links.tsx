/** Links to an album, for people who have no account here: made, seen to, withdrawn. */
import { RadioGroup } from "radix-ui";
import { useState, type FormEvent } from "react";
import { ask, type Album, type Schemas } from "../api/client";
import { keys, useDo, useLinks } from "../api/hooks";
import { counted, date } from "../format";
import { Check, Choice, Select } from "../ui/choose";
import { Button, Dialog, Field, TextButton, When } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";
import { Follows } from "./follows";

type Link = Schemas["Link"];

const LASTS = [
  ["7", "for a week"],
  ["30", "for 30 days"],
  ["90", "for 90 days"],
  ["365", "for a year"],
] as const;

const HANDED: Record<string, string> = { previews: "to look at", copies: "without places", originals: "with the originals" };

export function Links({ album, onClose }: { album: Album; onClose: () => void }) {
  const links = useLinks(album.id);
  const [days, setDays] = useState<(typeof LASTS)[number][0]>("30");
  const [handsOut, setHandsOut] = useState("previews");
  const [passphrase, setPassphrase] = useState("");
  const [takes, setTakes] = useState(false);
  const make = useDo(() => ask<Link>(`/api/albums/${album.id}/links`, "POST", { days: Number(days), hands_out: handsOut, passphrase: passphrase || null, takes }), [keys.links(album.id)]);
  const withdraw = useDo((id: string) => ask(`/api/links/${id}`, "DELETE"), [keys.links(album.id)]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    make.mutate(undefined, { onSuccess: () => setPassphrase("") });
  };
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title={`A link to “${album.name}”`} wide>
      <p className="text-soft">For somebody who has no account here. Whoever has it sees your own pictures in this album, also those that are added later, and nothing else: no pictures of others, and no other page of this house.</p>
      {album.follows && <Follows line={album.follows} />}
      {make.data?.address && <Made address={make.data.address} another={make.reset} />}
      <form onSubmit={submit} className={`border-line border-t pt-4 ${make.data ? "hidden" : ""}`}>
        <RadioGroup.Root value={handsOut} onValueChange={setHandsOut} aria-label="What can be taken along">
          <Choice value="previews" title="To look at">
            What can be downloaded is what is shown: up to 2,048 pixels, without places.
          </Choice>
          <Choice value="copies" title="In full, without places">
            JPEGs as large as they are, without place, camera and words. Of films and other files, what is shown.
          </Choice>
          <Choice value="originals" title="With the originals">
            Everything as it is, with the place where it was taken.
          </Choice>
        </RadioGroup.Root>
        <Check className="border-line mt-3 border-t pt-3" title={<span className="font-semibold">They may bring pictures of theirs</span>} checked={takes} onChange={setTakes}>
          What they bring waits for you, and nobody else sees it until you take it into this album. It counts as yours from the moment it arrives.
        </Check>
        <div className="mt-4 flex flex-wrap items-end gap-x-4 gap-y-3">
          <span>
            <span className="mb-1 block text-[14px] font-semibold">It opens</span>
            <Select label="How long it opens" value={days} choices={LASTS} onChange={setDays} className="w-[150px] py-2" />
          </span>
          <span className="min-w-[200px] grow">
            <Field label="Passphrase, if it is to have one" autoComplete="off" minLength={6} value={passphrase} onChange={(e) => setPassphrase(e.target.value)} />
          </span>
          <Button look="strong" type="submit" disabled={make.isPending} className="py-[9px]">
            Make a link
          </Button>
        </div>
        {make.isError && <Fault failure={make.error} />}
      </form>
      {links.isError ? (
        <Fault failure={links.error} again={() => void links.refetch()} />
      ) : links.isPending ? (
        <Waiting what="the links" />
      ) : (
        links.data.length > 0 && (
          <>
            <h3 className="border-line mt-6 mb-1 border-t pt-4 text-[18px]">Links that open now</h3>
            <ul className="m-0 list-none p-0 text-[15px]">
              {links.data.map((l) => (
                <li key={l.id} className="border-line flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1 border-t py-2.5 first:border-t-0">
                  <span className="min-w-0">
                    <Lasts link={l} />
                    <span className="block text-[14px] text-soft">
                      <Opened link={l} />
                    </span>
                  </span>
                  <TextButton disabled={withdraw.isPending} onClick={() => withdraw.mutate(l.id)}>
                    Withdraw
                  </TextButton>
                </li>
              ))}
            </ul>
            {withdraw.isError && <Fault failure={withdraw.error} />}
          </>
        )
      )}
    </Dialog>
  );
}

/** How long it opens, and what it hands out. */
export function Lasts({ link: l }: { link: Link }) {
  return (
    <>
      Until {date(l.ends_at)}, {HANDED[l.hands_out] ?? l.hands_out}
      {l.takes && ", takes pictures"}
      {l.passphrase && ", with a passphrase"}
    </>
  );
}

/** How often it was opened. */
export function Opened({ link: l }: { link: Link }) {
  if (l.opened === 0) return "Not opened yet";
  return (
    <>
      Opened {counted(l.opened, "time")}
      {l.opened_at && (
        <>
          , last <When at={l.opened_at} />
        </>
      )}
    </>
  );
}

/** The address of a link that was just made: it is shown once. */
function Made({ address, another }: { address: string; another: () => void }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(address);
    setCopied(true);
  };
  return (
    <div role="status" className="border-turf bg-raised mb-4 rounded-lg border-2 px-4 py-3">
      <p className="m-0 font-semibold">Here it is. It is shown this once: copy it now.</p>
      <p className="mt-1.5 mb-2 text-[15px] break-all">
        <code>{address}</code>
      </p>
      {/* Only where the page came safely does a browser let it copy. */}
      <span className="flex flex-wrap items-center gap-x-5 gap-y-2">
        {navigator.clipboard && <Button onClick={() => void copy()}>{copied ? "Copied" : "Copy"}</Button>}
        <TextButton onClick={another}>Make another one</TextButton>
      </span>
    </div>
  );
}
