/** The way offsite: each store with what it holds, what is still to go, and how it does; and the recovery kit. */
import { RadioGroup } from "radix-ui";
import { useState, type FormEvent } from "react";
import { ask, type Schemas, type Store } from "../api/client";
import { keys, useDo, useStores } from "../api/hooks";
import { clock, count, counted, size, until } from "../format";
import { Button, Choice, Dialog, Field, Page, State, When } from "../ui/parts";
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
      lead="Copies away from home, sealed before they leave the house."
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
        <Empty title="Everything is in one house">
          A fire or a thief takes the only copy. Add a store: any object storage that speaks S3, rented or at a friend’s, a WebDAV share, or a disk that you carry away. Whoever has it sees sealed bytes and learns nothing.
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
        {!s.sealed && ". Readable for whoever has it"}
        {isDisk(s.endpoint) && (
          <>
            . {s.away ? "Kept away from home. " : "Kept in this house: a copy, and not offsite. "}
            <button type="button" disabled={place.isPending} onClick={() => place.mutate(!s.away)} className="border-0 bg-transparent p-0 text-[14.5px] text-soft underline hover:text-ink">
              {s.away ? "It stays in the house" : "It is kept elsewhere"}
            </button>
          </>
        )}
      </p>
      {s.state === "stopped" && (
        <div className="border-oxide mb-5 border-l-4 pl-4">
          <p className="m-0 font-semibold">Nothing is sent there until you have looked.</p>
          <p className="mt-0.5 mb-2 text-soft">{sentence(s.reason)} What is there already stays there.</p>
          <div className="flex flex-wrap gap-3">
            <Button onClick={() => setResuming(true)}>Let it go on …</Button>
            <Button onClick={() => setTrying(true)}>Try it out</Button>
          </div>
        </div>
      )}
      {s.state === "away" && (
        <div className="border-line mb-5 border-l-4 pl-4">
          <p className="m-0 font-semibold">This disk is not connected.</p>
          <p className="mt-0.5 mb-2 text-soft">What is on it counts as it was last seen there. Connect it, and it catches up by itself within minutes.</p>
          <Button onClick={() => resume.mutate(undefined)} disabled={resume.isPending}>
            It is connected now
          </Button>
        </div>
      )}
      {s.state === "failing" && (
        <div className="border-ochre mb-5 border-l-4 pl-4">
          <p className="m-0 font-semibold">It does not answer as it should; tried again {s.retry_at ? until(s.retry_at) : "soon"}.</p>
          <p className="mt-0.5 mb-0 text-[14px] break-words text-soft">{sentence(s.reason)}</p>
        </div>
      )}
      <div className="flex h-3 overflow-hidden rounded-full" style={{ background: "var(--line)" }} role="img" aria-label={`${count(s.proven.count)} proven, ${count(s.held.count)} there, ${count(s.to_go.count)} to go`}>
        <span className="transition-[width] duration-700" style={{ width: share(s.proven.count), background: "var(--rock)" }} />
        <span className="transition-[width] duration-700" style={{ width: share(s.held.count - s.proven.count), background: "var(--clay)" }} />
      </div>
      <dl className="mt-4 mb-0 flex flex-wrap gap-x-12 gap-y-4">
        <Number name="There" colour="var(--clay)" n={s.held.count} line={size(s.held.bytes)} />
        <Number name="of these proven" colour="var(--rock)" n={s.proven.count} line="read back and opened" />
        <Number name="To go" colour="var(--line)" n={s.to_go.count} line={toGo(s)} />
        <div>
          <dt className="text-[14px] text-soft">Rate</dt>
          <dd className="m-0">
            <span className="numbers block font-head text-[27px] leading-tight font-medium">{s.rate > 0 ? `${size(s.rate)}/s` : "–"}</span>
            <span className="text-[14px] text-soft">{s.confirmed_at ? <>last copy <When at={s.confirmed_at} /></> : "no copy yet"}</span>
          </dd>
        </div>
      </dl>
      <p className="mt-4 mb-0 text-[14.5px] text-soft">
        {s.ledger_segment === 0 ? "Its ledger is not begun yet" : `Its ledger has ${counted(s.ledger_segment, "segment")}`}
        {s.unlisted > 0 ? `; ${counted(s.unlisted, "original")} will be listed in the next one.` : s.ledger_segment > 0 ? " and lists everything that is there." : "."}
      </p>
      {s.state !== "stopped" && (
        <div className="mt-3 flex flex-wrap items-center gap-x-3 gap-y-2">
          <Button onClick={() => pause.mutate(s.state !== "paused")} disabled={pause.isPending}>
            {s.state === "paused" ? "Go on" : "Pause"}
          </Button>
          <Button onClick={() => setHours(true)}>Hours and speed …</Button>
          <Button onClick={() => setTrying(true)}>Try it out</Button>
          <span className="text-[14.5px] text-soft">{s.state === "paused" ? "Nothing is sent there until you let it go on." : paceNow(s)}</span>
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
  if (s.to_go.count === 0) return "it has caught up";
  return s.caught_up_at ? `${size(s.to_go.bytes)}, there by ${clock(s.caught_up_at)}` : size(s.to_go.bytes);
}

function sentence(text: string | null | undefined): string {
  if (!text) return "";
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}${text.endsWith(".") ? "" : "."}`;
}

function StoreState({ store: s }: { store: Store }) {
  if (s.state === "stopped") return <State tone="trouble">stopped</State>;
  if (s.state === "failing") return <State tone="look">trying again</State>;
  if (s.state === "away") return <State tone="quiet">not connected</State>;
  if (s.state === "paused") return <State tone="look">paused</State>;
  if (s.state === "resting") return <State tone="quiet">at rest</State>;
  if (s.state === "sending") return <State tone="busy">sending</State>;
  return <State tone="well">up to date</State>;
}

function Number({ name, colour, n, line }: { name: string; colour: string; n: number; line: string }) {
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
          Rented or at a friend’s; anything that speaks S3. The bucket must exist.
        </Choice>
        <Choice value="share" title="A share">
          A network storage box at a friend’s, or a rented folder, that speaks WebDAV.
        </Choice>
        <Choice value="disk" title="A disk">
          Connected to this server, always or now and then. Away from home only if it is kept in another house.
        </Choice>
      </RadioGroup.Root>
      <form onSubmit={submit} className="grid gap-4 sm:grid-cols-2">
        <Field label="Name" required autoFocus placeholder={{ s3: "North Quay", share: "Aunt’s box", disk: "Red disk" }[kind]} {...field("name")} />
        {kind === "s3" ? (
          <>
            <Field label="Address" required type="url" placeholder="https://…" {...field("endpoint")} />
            <Field label="Bucket" required {...field("bucket")} />
            <Field label="Region" hint="If the store names none, leave it empty." {...field("region")} />
            <Field label="Access key" required autoComplete="off" {...field("access_key")} />
            <Field label="Secret key" required type="password" autoComplete="off" {...field("secret_key")} />
            <Field label="Prefix" hint="Only if the bucket holds other things, too." {...field("prefix")} />
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
            <label className="flex items-start gap-2.5 sm:col-span-2">
              <input type="checkbox" className="mt-1 size-4" checked={away} onChange={(e) => setAway(e.currentTarget.checked)} />
              <span>
                It is kept in another house when it is not connected
                <span className="block text-[14px] text-soft">Otherwise it is a copy, but no copy away from home: a fire takes both.</span>
              </span>
            </label>
          </>
        )}
        <label className="flex items-start gap-2.5 sm:col-span-2">
          <input type="checkbox" className="mt-1 size-4" checked={readable} onChange={(e) => setReadable(e.currentTarget.checked)} />
          <span>
            Leave copies readable
            <span className="block text-[14px] text-soft">Pictures under names that make sense, for whoever has the store or finds the disk. Otherwise they are sealed. This cannot be changed later.</span>
          </span>
        </label>
        <div className="sm:col-span-2">
          {trial.data && !busy && <TrialSteps trial={trial.data} />}
          {shown && !busy && (
            <label className="mb-4 flex items-start gap-2.5">
              <input type="checkbox" className="mt-1 size-4" checked={trusted === shown} onChange={(e) => setTrusted(e.currentTarget.checked ? shown : null)} />
              <span>
                It is my own store, and this is its fingerprint: trust this certificate alone
                <span className="block text-[14px] text-soft">
                  Compare it with what the store itself shows, or, on the store, with <code className="whitespace-nowrap">openssl x509 -noout -fingerprint -sha256 -in its.crt</code>. If it differs, somebody stands between.
                </span>
              </span>
            </label>
          )}
          {trial.isError && <Fault failure={trial.error} />}
          {add.isError && <Fault failure={add.error} />}
          <Button look="strong" type="submit" className="w-full py-2" disabled={busy}>
            {trial.isPending ? "Trying it out …" : add.isPending ? "Adding it …" : "Try it and add it"}
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
    <Dialog open onOpenChange={(o) => !o && onClose()} title={`Let ${store.name} go on`}>
      <p className="mt-0">{sentence(store.reason)}</p>
      <p className="text-soft">When that is mended, go on. If the keys changed, enter the new ones; leave them empty otherwise.</p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field label="New access key" autoComplete="off" value={keysNow.access_key} onChange={(e) => setKeys({ ...keysNow, access_key: e.target.value })} />
        <Field label="New secret key" type="password" autoComplete="off" value={keysNow.secret_key} onChange={(e) => setKeys({ ...keysNow, secret_key: e.target.value })} />
        {store.certificate && (
          <Field
            label="Fingerprint of its new certificate"
            autoComplete="off"
            hint="Only if the store was given a new one. “Try it out” shows which one it has now; compare it there."
            value={keysNow.certificate}
            onChange={(e) => setKeys({ ...keysNow, certificate: e.target.value })}
          />
        )}
        {resume.isError && <Fault failure={resume.error} />}
        <Button look="strong" type="submit" disabled={resume.isPending}>
          Go on
        </Button>
      </form>
    </Dialog>
  );
}
