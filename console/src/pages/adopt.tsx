/** Taking over what lies on an old disk or in an archive: look, see the plan, then say so. */
import { RadioGroup } from "radix-ui";
import { useState } from "react";
import { Link } from "react-router";
import { ask, type Schemas } from "../api/client";
import { keys, useAdoptable, useAdopted, useAdoptions, useDo, useLeftFolders, usePeople } from "../api/hooks";
import { count, counted, size } from "../format";
import { Check, Choice, Select } from "../ui/choose";
import { Button, Dialog, Page, State, TextButton, When } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";
import { Confirm } from "../ui/confirm";

type Adoption = Schemas["Adoption"];
type LeftFolder = Schemas["LeftFolder"];
type Tally = Schemas["Tally"];

export function Adopt() {
  const adoptions = useAdoptions();
  const [choosing, setChoosing] = useState(false);
  return (
    <Page
      title="Adopt an old disk"
      lead="Pictures on an old disk, or in an archive, are added to the library. Nothing on the disk is changed."
      action={
        <Button look="strong" onClick={() => setChoosing(true)}>
          Look through a folder
        </Button>
      }
    >
      <OutOfReach />
      {adoptions.isPending ? (
        <Waiting what="what was adopted" />
      ) : adoptions.isError ? (
        <Fault failure={adoptions.error} again={() => void adoptions.refetch()} />
      ) : adoptions.data.length === 0 ? (
        <Empty title="Nothing was adopted yet">Connect the disk to this server, or copy the archive to it. First you see a plan; nothing is added before you agree.</Empty>
      ) : (
        <ul className="m-0 mt-6 list-none p-0">
          {adoptions.data.map((a) => (
            <One key={a.id} adoption={a} />
          ))}
        </ul>
      )}
      <p className="mt-8 text-[14px] text-soft">
        Is the folder on another computer? <Link to="/devices">Pair that computer</Link> and let it back up the folder.
      </p>
      {choosing && <ChooseDialog onClose={() => setChoosing(false)} />}
    </Page>
  );
}

/** Folders in which pictures were left, and where nothing is now: whether they come back is the keeper's to say. */
function OutOfReach() {
  const folders = useLeftFolders();
  const [asking, setAsking] = useState<LeftFolder>();
  const hope = useDo((path: string) => ask("/api/left-folders", "PATCH", { path, given_up: false }), [keys.leftFolders, keys.overview]);
  if (folders.isError) return <Fault failure={folders.error} again={() => void folders.refetch()} />;
  const unseen = (folders.data ?? []).filter((f) => f.state !== "there");
  return (
    <>
      {unseen.map((f) => (
        <section key={f.path} className={`my-4 border-l-4 py-1 pl-4 ${f.state === "given-up" ? "border-line" : "border-ochre"}`} role="status">
          <b className="block text-[17px] font-semibold break-words">{f.state === "given-up" ? `${f.path} does not come back` : `Nothing is in ${f.path}`}</b>
          <p className="mt-1 mb-3 max-w-[70ch]">
            {f.state === "given-up" ? (
              <>What was left there counts as missing, and is fetched from the stores that have it. If the disk is connected after all, its pictures are used again.</>
            ) : (
              <>
                Pictures of the library were left there{f.unseen_since && <>; that nothing is there any more was noticed <When at={f.unseen_since} /></>}. They cannot be opened or sent until the disk is connected. Then
                everything continues by itself.
              </>
            )}
          </p>
          {f.state === "given-up" ? (
            <Button disabled={hope.isPending} onClick={() => hope.mutate(f.path)}>
              It may come back after all
            </Button>
          ) : (
            <Button onClick={() => setAsking(f)}>It does not come back …</Button>
          )}
        </section>
      ))}
      {hope.isError && <Fault failure={hope.error} />}
      {asking && <GiveUpDialog folder={asking} onClose={() => setAsking(undefined)} />}
    </>
  );
}

function GiveUpDialog({ folder, onClose }: { folder: LeftFolder; onClose: () => void }) {
  const giveUp = useDo(() => ask("/api/left-folders", "PATCH", { path: folder.path, given_up: true }), [keys.leftFolders, keys.overview, keys.checks]);
  return (
    <Confirm
      title="Does this disk not come back?"
      action="It does not come back"
      busy={giveUp.isPending}
      failure={giveUp.error}
      onConfirm={() => giveUp.mutate(undefined, { onSuccess: onClose })}
      onClose={onClose}
    >
      <p className="m-0">
        What was left in {folder.path} counts as missing from then on. The home disk is read, and the library gets copies of its own from the stores. What no store has is lost with the disk: if it only is in a drawer,
        connect it instead.
      </p>
    </Confirm>
  );
}

const lastPart = (path: string) => path.split("/").filter(Boolean).pop() ?? path;

function One({ adoption: a }: { adoption: Adoption }) {
  const order = useDo((word: string) => ask(`/api/adoptions/${a.id}`, "PATCH", { order: word }), [keys.adoptions]);
  const [listing, setListing] = useState<string>();
  const give = (word: string) => order.mutate(word);
  const finished = a.state === "done" || a.state === "stopped";
  return (
    <li className="border-line border-t py-5">
      <div className="flex flex-wrap items-baseline justify-between gap-x-5 gap-y-1">
        <h2 className="m-0 text-[19px] break-words">{lastPart(a.path)}</h2>
        {stateOf(a)}
      </div>
      <p className="mt-0.5 mb-3 text-[14.5px] break-words text-soft">
        {a.path}
        <span className="block">
          For {a.person_name}, {a.in_place ? "left on the disk" : "copied into the library"}
          {a.everything && ", files of all kinds"}. Started by {a.made_by}, <When at={a.began_at} />.
        </span>
      </p>
      {a.problem && <p className="border-ochre m-0 mb-3 max-w-prose border-l-4 py-0.5 pl-3">{a.problem}</p>}
      {a.state === "planned" && <Plan adoption={a} />}
      {(a.state === "running" || a.state === "paused") && a.files.files > 0 && <Progress adoption={a} />}
      <Numbers adoption={a} onList={setListing} />
      {order.isError && <Fault failure={order.error} />}
      <div className="mt-3 flex flex-wrap gap-2">
        {a.state === "planned" && a.files.files > 0 && (
          <Button look="strong" disabled={order.isPending} onClick={() => give("begin")}>
            {a.in_place ? `Adopt ${counted(a.files.files, "file")}` : `Copy ${counted(a.files.files - a.known.files, "file")}`}
          </Button>
        )}
        {a.state === "running" && <Button onClick={() => give("pause")}>Pause</Button>}
        {a.state === "paused" && (
          <Button look="strong" onClick={() => give("resume")}>
            Resume
          </Button>
        )}
        {finished && a.failed.files > 0 && a.files.files > 0 && <Button onClick={() => give("try-again")}>Try the failed ones again</Button>}
        {!finished && <Button onClick={() => give("stop")}>{a.state === "planned" ? "Cancel" : "Stop"}</Button>}
      </div>
      {listing && <FilesDialog adoption={a} outcome={listing} onClose={() => setListing(undefined)} />}
    </li>
  );
}

function stateOf(a: Adoption) {
  const done = a.files.files - a.waiting.files;
  switch (a.state) {
    case "looking":
      return <State tone="busy">{`looking through it, ${counted(a.files.files, "file")} so far`}</State>;
    case "planned":
      return a.files.files > 0 ? <State tone="look">waiting for your OK</State> : <State tone="quiet">nothing in it to adopt</State>;
    case "running":
      return <State tone="busy">{`${count(done)} of ${count(a.files.files)}`}</State>;
    case "paused":
      return <State tone="look">{a.files.files > 0 ? `paused at ${count(done)} of ${count(a.files.files)}` : "paused"}</State>;
    case "stopped":
      return <State tone="quiet">{done > 0 ? `stopped at ${count(done)} of ${count(a.files.files)}` : "not adopted"}</State>;
    default:
      return a.failed.files > 0 ? <State tone="look">{`done, ${counted(a.failed.files, "file")} failed`}</State> : <State tone="well">done</State>;
  }
}

/** What would happen, in one sentence, and whether there is room for it. */
function Plan({ adoption: a }: { adoption: Adoption }) {
  const fresh: Tally = { files: a.files.files - a.known.files, bytes: a.files.bytes - a.known.bytes };
  const room = a.room ?? undefined;
  const tight = !a.in_place && room !== undefined && fresh.bytes > room;
  if (a.files.files === 0) return null;
  return (
    <p className="mt-0 mb-3 max-w-prose">
      {fresh.files === 0
        ? "All of it is here already. Adopting it only notes that this disk has it, too."
        : a.in_place
          ? `${counted(fresh.files, "file")} would stay on the disk and appear in the library, ${size(fresh.bytes)} in all. The disk must stay connected: their copy at home is there.`
          : `${counted(fresh.files, "file")} would be copied, ${size(fresh.bytes)} in all${room === undefined ? ". The library’s disk is not connected." : `; there is room for ${size(room)}.`}`}
      {tight && <strong className="block">That is too much: adopting would stop when the disk is full.</strong>}
    </p>
  );
}

function Progress({ adoption: a }: { adoption: Adoption }) {
  const done = a.files.bytes - a.waiting.bytes;
  // Since this page was opened: what was done before it may have been done before a pause.
  const [start] = useState(() => ({ at: Date.now(), done }));
  const seconds = (Date.now() - start.at) / 1000;
  const rate = a.state === "running" && seconds > 2 && done > start.done ? (done - start.done) / seconds : 0;
  return (
    <div className="mb-3">
      <div className="bg-line h-2 overflow-hidden rounded" role="progressbar" aria-label="Adopted" aria-valuemin={0} aria-valuemax={a.files.bytes} aria-valuenow={done}>
        <div className="bg-accent h-full" style={{ width: `${(100 * done) / Math.max(a.files.bytes, 1)}%` }} />
      </div>
      <p className="numbers mt-1 mb-0 text-[14px] text-soft">
        {size(done)} of {size(a.files.bytes)}
        {rate > 0 && `, ${size(rate)} a second, about ${counted(Math.max(Math.ceil(a.waiting.bytes / rate / 60), 1), "minute")} left`}
      </p>
    </div>
  );
}

function Numbers({ adoption: a, onList }: { adoption: Adoption; onList: (outcome: string) => void }) {
  const early = a.state === "looking" || a.state === "planned";
  const lines: [string, Tally, string | undefined][] = [
    ["copied", a.copied, "copied"],
    ["left on the disk", a.pointed, "pointed"],
    ["here already", early ? a.known : a.present, early ? undefined : "present"],
    ["failed", a.failed, "failed"],
    ["left out", a.left_out, "left-out"],
  ];
  const shown = lines.filter(([, tally]) => tally.files > 0);
  if (shown.length === 0) return null;
  return (
    <ul className="m-0 flex list-none flex-wrap gap-x-7 gap-y-1 p-0 text-[15px]">
      {shown.map(([label, tally, outcome]) => (
        <li key={label} className="numbers">
          {outcome ? (
            <TextButton onClick={() => onList(outcome)}>
              {count(tally.files)} {label}
            </TextButton>
          ) : (
            `${count(tally.files)} ${label}`
          )}
        </li>
      ))}
    </ul>
  );
}

const titles: Record<string, string> = {
  copied: "Copied",
  pointed: "Left on the disk",
  present: "Here already",
  failed: "Failed",
  "left-out": "Left out",
};

function FilesDialog({ adoption, outcome, onClose }: { adoption: Adoption; outcome: string; onClose: () => void }) {
  const files = useAdopted(adoption.id, outcome);
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={titles[outcome] ?? outcome} wide>
      {files.isPending ? (
        <Waiting what="the list" />
      ) : files.isError ? (
        <Fault failure={files.error} />
      ) : (
        <ul className="m-0 max-h-[55vh] list-none overflow-y-auto p-0 text-[14.5px]">
          {files.data.map((f) => (
            <li key={`${f.archive}/${f.path}`} className="border-line border-t py-1.5 first:border-t-0">
              <span className="break-all">
                {f.archive && <span className="text-soft">{f.archive} / </span>}
                {f.path}
              </span>
              {f.reason && <span className="block text-[13.5px] text-soft">{f.reason}</span>}
            </li>
          ))}
          {files.data.length === 200 && <li className="py-2 text-soft">The first 200 are shown.</li>}
        </ul>
      )}
    </Dialog>
  );
}

function ChooseDialog({ onClose }: { onClose: () => void }) {
  const [folder, setFolder] = useState("");
  const [chosen, setChosen] = useState<Schemas["AdoptablePlace"]>();
  const places = useAdoptable(folder);
  const none = places.data?.folder === "" && places.data.places.length === 0;
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={chosen ? `Look through ${chosen.name}` : "What do you want to adopt?"} wide>
      {chosen ? (
        <HowForm place={chosen} onBack={() => setChosen(undefined)} onClose={onClose} />
      ) : places.isPending ? (
        <Waiting what="the folders" />
      ) : places.isError ? (
        <Fault failure={places.error} />
      ) : none ? (
        <p className="m-0">
          No folder of this server may be adopted yet. Add one in the settings file, for example <code>adopt_from = ["/mnt/old-disk"]</code>, and restart the service.
        </p>
      ) : (
        <>
          {places.data.folder && (
            <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
              <code className="text-[14px] break-all text-soft">{places.data.folder}</code>
              <Button onClick={() => setFolder(places.data.above ?? "")}>Back</Button>
            </div>
          )}
          <ul className="m-0 max-h-[46vh] list-none overflow-y-auto p-0">
            {places.data.places.map((p) => (
              <li key={p.path} className="border-line flex items-center justify-between gap-3 border-t py-1.5 first:border-t-0">
                {p.archive ? (
                  <span className="min-w-0 break-all">
                    {p.name} <span className="text-[13.5px] text-soft">archive</span>
                  </span>
                ) : (
                  <TextButton className="min-w-0 break-all" onClick={() => setFolder(p.path)}>
                    {places.data.folder ? p.name : p.path}
                  </TextButton>
                )}
                <Button aria-label={`Choose ${p.name}`} onClick={() => setChosen(p)}>
                  This one
                </Button>
              </li>
            ))}
            {places.data.places.length === 0 && <li className="text-soft">There is no folder and no archive in here.</li>}
            {places.data.more && <li className="py-2 text-soft">There are more; choose the folder above them.</li>}
          </ul>
        </>
      )}
    </Dialog>
  );
}

function HowForm({ place, onBack, onClose }: { place: Schemas["AdoptablePlace"]; onBack: () => void; onClose: () => void }) {
  const people = usePeople(true);
  const [how, setHow] = useState("copy");
  const [person, setPerson] = useState<string>();
  const [everything, setEverything] = useState(false);
  const whose = person ?? people.data?.[0]?.id;
  const look = useDo(() => ask("/api/adoptions", "POST", { path: place.path, person: whose, in_place: how === "point", everything }), [keys.adoptions]);
  return (
    <div className="flex flex-col gap-4">
      <div className="text-[14px] font-semibold">
        <span className="mb-1 block">Whose are they?</span>
        <Select label="Whose are they?" value={whose} choices={(people.data ?? []).map((p) => [p.id, p.name] as const)} onChange={setPerson} className="w-full font-normal" />
      </div>
      {!place.archive && (
        <RadioGroup.Root value={how} onValueChange={setHow} aria-label="Copy or leave on the disk">
          <Choice value="copy" title="Copy them into the library">
            Afterwards you can put the disk away. This needs space on the server.
          </Choice>
          <Choice value="point" title="Leave them on the disk">
            They appear in the library, but stay on the disk. It must stay connected, and nobody may change what is on it. Archives are copied.
          </Choice>
        </RadioGroup.Root>
      )}
      <Check checked={everything} onChange={setEverything} title="Files of all kinds" className="text-[15px]">
        Otherwise only pictures, videos, and the descriptions beside them.
      </Check>
      {look.isError && <Fault failure={look.error} />}
      <div className="flex gap-2">
        <Button look="strong" disabled={look.isPending || !whose} onClick={() => look.mutate(undefined, { onSuccess: onClose })}>
          Look through it
        </Button>
        <Button onClick={onBack}>Back</Button>
      </div>
      <p className="m-0 text-[13.5px] text-soft">This adds nothing yet. You get a plan that says what would be added and what not.</p>
    </div>
  );
}
