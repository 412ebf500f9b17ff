/** The way offsite: each store with what it holds, what is still to go, and how it does; and the recovery kit. */
import { RadioGroup } from "radix-ui";
import { useState, type FormEvent } from "react";
import { ask, type Schemas, type Store } from "../api/client";
import { keys, useDo, useStores } from "../api/hooks";
import { clock, count, counted, size, until } from "../format";
import { Check, Choice } from "../ui/choose";
import { Button, Dialog, Field, Page, State, TextButton, When } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";
import { ChecksView } from "./checks";
import { CostView } from "./cost";
import { HistoryView } from "./history";
import { KeyView } from "./key";
import { TrialDialog, TrialSteps } from "./trial";
import { paceNow, WeekDialog } from "./week";

export function Offsite() {
  const stores = useStores();
  const [adding, setAdding] = useState(false);
  return (
    <Page
      title="Offsite"
      lead={
        stores.data?.some((s) => !s.sealed)
          ? "Copies in other places, encrypted (“sealed”) before they leave the house unless a store below says otherwise."
          : "Copies in other places, encrypted (“sealed”) before they leave the house."
      }
      action={
        <Button look="strong" onClick={() => setAdding(true)}>
          Add a store
        </Button>
      }
    >
      {stores.isPending ? (
        <Waiting what="the stores" />
      ) : stores.isError ? (
        <Fault failure={stores.error} again={() => void stores.refetch()} />
      ) : stores.data.length === 0 ? (
        <Empty title="All copies are in one house">
          A fire or a thief could take all of them. Add a store: object storage with S3, rented or at a friend’s; a WebDAV share; or a disk that you keep elsewhere. Copies are encrypted (“sealed”) before they leave, so whoever runs the store cannot see a picture.
        </Empty>
      ) : (
        stores.data.map((s) => <StoreView key={s.id} store={s} />)
      )}
      {stores.data && stores.data.length > 0 && <HistoryView />}
      <ChecksView />
      <KeyView />
      {adding && <AddDialog onClose={() => setAdding(false)} />}
    </Page>
  );
}

function StoreView({ store: s }: { store: Store }) {
  const [resuming, setResuming] = useState(false);
  const [hours, setHours] = useState(false);
  const [trying, setTrying] = useState(false);
  const resume = useDo(() => ask(`/api/stores/${s.id}/resume`, "POST", {}), stale);
  const pause = useDo((paused: boolean) => ask(`/api/stores/${s.id}`, "PATCH", { paused }), stale);
  const place = useDo((away: boolean) => ask(`/api/stores/${s.id}`, "PATCH", { away }), stale);
  const all = s.held.count + s.to_go.count;
  const share = (n: number) => `${all === 0 ? 0 : (100 * n) / all}%`;
  return (
    <section className="border-line mt-7 border-t pt-5">
      <div className="flex flex-wrap items-baseline justify-between gap-x-6 gap-y-1">
        <h2 className="m-0 text-[23px]">{s.name}</h2>
        <StoreState store={s} />
      </div>
      <p className="mt-0.5 mb-4 text-[14.5px] text-soft">
        {whereIs(s)}
        {s.prefix && `, below ${s.prefix}/`}
        {!s.sealed && ". Not encrypted: whoever has it can see the pictures"}
        {isDisk(s.endpoint) && (
          <>
            . {s.away ? "Kept in another house. " : "Kept in this house, so it does not count as offsite. "}
            <TextButton tone="soft" disabled={place.isPending} onClick={() => place.mutate(!s.away)} className="text-[14.5px]">
              {s.away ? "Change: kept in this house" : "Change: kept in another house"}
            </TextButton>
          </>
        )}
      </p>
      {s.state === "stopped" && (
        <div className="border-oxide mb-5 border-l-4 pl-4">
          <p className="m-0 font-semibold">Sending has stopped, and needs you.</p>
          <p className="mt-0.5 mb-2 text-soft">{sentence(s.reason)} The copies that are there stay there.</p>
          <div className="flex flex-wrap gap-3">
            <Button onClick={() => setResuming(true)}>Resume sending …</Button>
            <Button onClick={() => setTrying(true)}>Test it</Button>
          </div>
        </div>
      )}
      {s.state === "away" && (
        <div className="border-line mb-5 border-l-4 pl-4">
          <p className="m-0 font-semibold">This disk is not connected now.</p>
          <p className="mt-0.5 mb-2 text-soft">Its copies count as they were when it was last seen. Connect it, and sending resumes within minutes.</p>
          <Button onClick={() => resume.mutate(undefined)} disabled={resume.isPending}>
            I have connected it
          </Button>
        </div>
      )}
      {s.state === "failing" && (
        <div className="border-ochre mb-5 border-l-4 pl-4">
          <p className="m-0 font-semibold">There is a problem with this store. The next attempt is {s.retry_at ? until(s.retry_at) : "soon"}.</p>
          <p className="mt-0.5 mb-0 text-[14px] break-words text-soft">{sentence(s.reason)}</p>
        </div>
      )}
      <div className="flex h-3 overflow-hidden rounded-full" style={{ background: "var(--line)" }} role="img" aria-label={`${count(s.held.count)} copies there, ${count(s.proven.count)} of these checked, ${count(s.to_go.count)} still to send`}>
        <span className="transition-[width] duration-700" style={{ width: share(s.proven.count), background: "var(--rock)" }} />
        <span className="transition-[width] duration-700" style={{ width: share(s.held.count - s.proven.count), background: "var(--clay)" }} />
      </div>
      <dl className="mt-4 mb-0 flex flex-wrap gap-x-12 gap-y-4">
        <Figure name="Copies there" colour="var(--clay)" n={s.held.count} line={size(s.held.bytes)} />
        <Figure name="of these checked" colour="var(--rock)" n={s.proven.count} line="read back, and right" />
        <Figure name="Still to send" colour="var(--line)" n={s.to_go.count} line={toGo(s)} />
        <div>
          <dt className="text-[14px] text-soft">Rate</dt>
          <dd className="m-0">
            <span className="numbers block font-head text-[27px] leading-tight font-medium">{s.rate > 0 ? `${size(s.rate)}/s` : "–"}</span>
            <span className="text-[14px] text-soft">{s.confirmed_at ? <>last copy <When at={s.confirmed_at} /></> : "no copy yet"}</span>
          </dd>
        </div>
      </dl>
      <p className="mt-4 mb-0 text-[14.5px] text-soft">
        {s.ledger_due
          ? "The list of contents in this store is not complete: parts of it are missing, cannot be read, or are sealed for an earlier key. All of it is being written there again."
          : s.unlisted > 0
            ? `The list of contents in this store still lacks ${counted(s.unlisted, "file")}; ${s.unlisted === 1 ? "it follows" : "they follow"} soon.`
            : s.ledger_segment > 0
              ? "The list of contents in this store is complete."
              : "The list of contents in this store is not written yet."}
      </p>
      {s.state !== "stopped" && (
        <div className="mt-3 flex flex-wrap items-center gap-x-3 gap-y-2">
          <Button onClick={() => pause.mutate(s.state !== "paused")} disabled={pause.isPending}>
            {s.state === "paused" ? "Resume" : "Pause"}
          </Button>
          <Button onClick={() => setHours(true)}>Hours and speed …</Button>
          <Button onClick={() => setTrying(true)}>Test it</Button>
          <span className="text-[14.5px] text-soft">{s.state === "paused" ? "Nothing is sent there until you resume." : paceNow(s)}</span>
        </div>
      )}
      <CostView store={s} />
      {place.isError && <Fault failure={place.error} />}
      {pause.isError && <Fault failure={pause.error} />}
      {trying && <TrialDialog store={s} onClose={() => setTrying(false)} />}
      {hours && <WeekDialog store={s} onClose={() => setHours(false)} />}
      {resuming && <ResumeDialog store={s} onClose={() => setResuming(false)} />}
    </section>
  );
}

function whereIs(s: Store): string {
  if (isDisk(s.endpoint)) return `A disk or folder of this server, ${s.endpoint.slice("file://".length)}`;
  if (s.endpoint.startsWith("dav")) return `A share, ${s.endpoint.replace(/^dav/, "http")}`;
  return `${s.endpoint}, bucket ${s.bucket}`;
}

const isDisk = (endpoint: string) => endpoint.startsWith("file://");

/** What is still to go, and when it will be there, as far as that can be said. */
function toGo(s: Store): string {
  if (s.to_go.count === 0) return "nothing";
  return s.caught_up_at ? `${size(s.to_go.bytes)}, done by about ${clock(s.caught_up_at)}` : size(s.to_go.bytes);
}

function sentence(text: string | null | undefined): string {
  if (!text) return "";
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}${text.endsWith(".") ? "" : "."}`;
}

const STATES: { [state in Store["state"]]: [tone: "trouble" | "look" | "quiet" | "busy" | "well", word: string] } = {
  stopped: ["trouble", "stopped"],
  failing: ["look", "trying again"],
  away: ["quiet", "not connected"],
  paused: ["look", "paused"],
  resting: ["quiet", "waiting for its hours"],
  sending: ["busy", "sending"],
  listing: ["busy", "writing its list of contents"],
  idle: ["well", "up to date"],
};

function StoreState({ store }: { store: Store }) {
  const [tone, word] = STATES[store.state];
  return <State tone={tone}>{word}</State>;
}

function Figure({ name, colour, n, line }: { name: string; colour: string; n: number; line: string }) {
  return (
    <div>
      <dt className="flex items-center gap-2 text-[14px] text-soft">
        <span aria-hidden className="size-[10px] rounded-[3px]" style={{ background: colour }} />
        {name}
      </dt>
      <dd className="m-0">
        <span className="numbers block font-head text-[27px] leading-tight font-medium">{count(n)}</span>
        <span className="text-[14px] text-soft">{line}</span>
      </dd>
    </div>
  );
}

const stale = [keys.stores, keys.overview, keys.months, keys.key] as const;

function AddDialog({ onClose }: { onClose: () => void }) {
  const [form, setForm] = useState({ name: "", endpoint: "", region: "", bucket: "", prefix: "", access_key: "", secret_key: "" });
  const [kind, setKind] = useState<"s3" | "share" | "disk">("s3");
  const [folder, setFolder] = useState("");
  const [away, setAway] = useState(false);
  // A share is told by its scheme: dav for http, davs for https.
  const [readable, setReadable] = useState(false);
  const share = { ...form, endpoint: form.endpoint.trim().replace(/^http/, "dav"), bucket: "", region: "" };
  const where = kind === "s3" ? form : kind === "share" ? share : { name: form.name, endpoint: `file://${folder.trim()}`, away };
  // For a store at home: the certificate that it showed, once a person has compared it.
  const [trusted, setTrusted] = useState<string | null>(null);
  const sent = { ...where, readable, certificate: kind === "disk" ? null : trusted };
  const add = useDo(() => ask("/api/stores", "POST", sent), stale);
  // Tried step by step first, so that a keeper sees what does not work, and not only that something does not.
  const trial = useDo(() => ask<Schemas["Trial"]>("/api/stores/trial", "POST", sent), []);
  const change = (key: keyof typeof form, value: string) => {
    setForm({ ...form, [key]: value });
    // Another address is another server.
    if (key === "endpoint") setTrusted(null);
  };
  const field = (key: keyof typeof form) => ({ name: key, value: form[key], onChange: (e: { currentTarget: HTMLInputElement }) => change(key, e.currentTarget.value) });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    add.reset();
    trial.mutate(undefined, { onSuccess: (t) => t.usable && add.mutate(undefined, { onSuccess: onClose }) });
  };
  const busy = trial.isPending || add.isPending;
  const shown = trial.data?.steps.find((s) => s.certificate)?.certificate;
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title="Add a store" wide>
      <RadioGroup.Root value={kind} onValueChange={(k) => setKind(k as typeof kind)} aria-label="Kind of store" className="mb-4 grid gap-x-6 sm:grid-cols-3">
        <Choice value="s3" title="An object storage">
          Rented or at a friend’s, with the S3 protocol. Its container there, the “bucket”, must exist already.
        </Choice>
        <Choice value="share" title="A share">
          A network storage box at a friend’s, or a rented folder, that speaks WebDAV.
        </Choice>
        <Choice value="disk" title="A disk">
          Connected to this server, always or from time to time. It counts as offsite only if you keep it in another house.
        </Choice>
      </RadioGroup.Root>
      <form onSubmit={submit} className="grid gap-4 sm:grid-cols-2">
        <Field label="Name" required autoFocus placeholder={{ s3: "North Quay", share: "The aunt’s box", disk: "Red disk" }[kind]} {...field("name")} />
        {kind === "s3" ? (
          <>
            <Field label="Address" required type="url" placeholder="https://…" {...field("endpoint")} />
            <Field label="Bucket" required {...field("bucket")} />
            <Field label="Region" hint="If the store names none, leave it empty." {...field("region")} />
            <Field label="Access key" required autoComplete="off" {...field("access_key")} />
            <Field label="Secret key" required type="password" autoComplete="off" {...field("secret_key")} />
            <Field label="Prefix" hint="A folder in the bucket, if other things lie there, too." {...field("prefix")} />
          </>
        ) : kind === "share" ? (
          <>
            <Field label="Address" required type="url" placeholder="https://box.example/copies" hint="Of a folder that is there." {...field("endpoint")} />
            <Field label="User name" autoComplete="off" {...field("access_key")} />
            <Field label="Password" type="password" autoComplete="off" {...field("secret_key")} />
            <Field label="Folder in it" hint="Only if the share holds other things, too." {...field("prefix")} />
          </>
        ) : (
          <>
            <Field label="Folder on this server" required placeholder="/media/red-disk" hint="Below a folder that the settings name in copy_to." value={folder} onChange={(e) => setFolder(e.currentTarget.value)} />
            <Check checked={away} onChange={setAway} title="I keep it in another house when it is not connected" className="sm:col-span-2">
              Otherwise it does not count as offsite: a fire could take both.
            </Check>
          </>
        )}
        <Check checked={readable} onChange={setReadable} title="Do not encrypt these copies" className="sm:col-span-2">
          Pictures lie there under their own names, and whoever has the store or finds the disk can see them. This cannot be changed later.
        </Check>
        <div className="sm:col-span-2">
          {trial.data && !busy && <TrialSteps trial={trial.data} />}
          {shown && !busy && (
            <Check checked={trusted === shown} onChange={(on) => setTrusted(on ? shown : null)} title="This is my own store, and this is its fingerprint: trust only this certificate" className="mb-4">
              Compare it with what the store itself shows, or, on the store, with <code className="whitespace-nowrap">openssl x509 -noout -fingerprint -sha256 -in its.crt</code>. If it differs, do not go on: somebody may be listening in between.
            </Check>
          )}
          {trial.isError && <Fault failure={trial.error} />}
          {add.isError && <Fault failure={add.error} />}
          <Button look="strong" type="submit" className="w-full py-2" disabled={busy}>
            {trial.isPending ? "Testing it …" : add.isPending ? "Adding it …" : "Test and add"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

function ResumeDialog({ store, onClose }: { store: Store; onClose: () => void }) {
  const [keysNow, setKeys] = useState({ access_key: "", secret_key: "", certificate: "" });
  const resume = useDo(() => ask(`/api/stores/${store.id}/resume`, "POST", keysNow), stale);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    resume.mutate(undefined, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={`Resume sending to ${store.name}`}>
      <p className="mt-0">{sentence(store.reason)}</p>
      <p className="text-soft">Resume when the problem is solved. If the store’s keys have changed, enter the new ones; otherwise leave both fields empty.</p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field label="New access key" autoComplete="off" value={keysNow.access_key} onChange={(e) => setKeys({ ...keysNow, access_key: e.target.value })} />
        <Field label="New secret key" type="password" autoComplete="off" value={keysNow.secret_key} onChange={(e) => setKeys({ ...keysNow, secret_key: e.target.value })} />
        {store.certificate && (
          <Field
            label="Fingerprint of its new certificate"
            autoComplete="off"
            hint="Only if the store was given a new one. “Test it” shows which one it has now; compare it there."
            value={keysNow.certificate}
            onChange={(e) => setKeys({ ...keysNow, certificate: e.target.value })}
          />
        )}
        {resume.isError && <Fault failure={resume.error} />}
        <Button look="strong" type="submit" disabled={resume.isPending}>
          Resume sending
        </Button>
      </form>
    </Dialog>
  );
}
