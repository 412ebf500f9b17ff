/** Sending from a browser: this browser as a device of its own, offers first, then resumable uploads (tus 1.0). */
import { Upload } from "tus-js-client";
import { ask, type Schemas } from "../api/client";
import { digestOf } from "./hashing";

/** Each person has a device of their own in a browser that several use. */
const keptFor = (person: string) => `ypogeion-night-${person}`;
const AT_ONCE = 2;

export interface Device {
  token: string;
  name: string;
}

/** `shared`: where it waits, if another app shared it with this page. `source`: the folder that it is from. `anew`: sent also if it is here, so that one is told which picture it is. */
export type Item = { file: File; size: number; shared?: string; source?: string; anew?: boolean } & (
  | { state: "waiting" }
  | { state: "sending"; sent: number }
  | { state: "home"; original?: string | undefined }
  | { state: "there" }
  | { state: "failed"; why: string }
);

export function ownDevice(person: string): Device | undefined {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(keptFor(person)) ?? "null");
    return kept && typeof kept === "object" && "token" in kept ? (kept as Device) : undefined;
  } catch {
    return undefined;
  }
}

/** Makes this browser a device of the member who is signed in. */
export async function becomeDevice(person: string, name: string, kind: "phone" | "computer"): Promise<Device> {
  const pairing = await ask<Schemas["Pairing"]>("/api/pairings", "POST", {});
  const claim = { code: pairing.code, device_name: name, device_kind: kind, client: kind === "phone" ? "night page" : "browser" };
  const claimed = await ask<Schemas["Claimed"]>("/api/pairings/claim", "POST", claim);
  const device = { token: claimed.token, name };
  localStorage.setItem(keptFor(person), JSON.stringify(device));
  return device;
}

export function forgetDevice(person: string) {
  localStorage.removeItem(keptFor(person));
}

const SHARED = "night-shared";

/** The pictures that another app shared with this page. They wait until they are home, however often the page is closed before. */
export async function sharedFiles(): Promise<Item[]> {
  if (!("caches" in window)) return [];
  const cache = await caches.open(SHARED);
  const items: Item[] = [];
  for (const request of await cache.keys()) {
    const kept = await cache.match(request);
    if (!kept) continue;
    const name = decodeURIComponent(kept.headers.get("x-name") ?? "shared");
    const time = Number(kept.headers.get("x-time") ?? Date.now());
    const file = new File([await kept.blob()], name, { type: kept.headers.get("content-type") ?? "", lastModified: time });
    items.push({ file, size: file.size, shared: request.url, state: "waiting" });
  }
  return items;
}

/** What was shared need not wait any more. */
export async function forgetShared(places: string[]): Promise<void> {
  if (places.length === 0) return;
  const cache = await caches.open(SHARED);
  await Promise.all(places.map((place) => cache.delete(place)));
}

/** Asks whether these bytes are wanted. No answer is no reason not to send: the server keeps equal bytes once. */
async function offer(device: Device, base: Base, digest: string): Promise<"want" | "have" | { no: string }> {
  const entry = { digest, size: base.size, name: base.file.name, source: base.source ?? "Night page", file_time: fileTime(base) ?? null };
  const response = await fetch("/api/device/offers", {
    method: "POST",
    headers: { authorization: `Bearer ${device.token}`, "content-type": "application/json" },
    body: JSON.stringify({ entries: [entry] }),
  });
  if (response.status === 401) throw new Revoked();
  if (!response.ok) return "want";
  const { answers } = (await response.json()) as Schemas["OfferAnswers"];
  const answer = answers[0];
  if (answer?.answer === "have") return "have";
  // What was deleted at home is not sent again by a page that nobody looks at; whoever wants it back takes it out of holding.
  return answer?.answer === "no" || answer?.answer === "leave" ? { no: answer.reason } : "want";
}

export class Revoked extends Error {}

/** Sends files, two at a time, until all are home or failed, or the signal says stop. `tell` hears of every change. */
export async function sendAll(device: Device, items: Item[], tell: (place: number, item: Item) => void, signal: AbortSignal): Promise<void> {
  let next = 0;
  const worker = async () => {
    while (next < items.length && !signal.aborted) {
      const place = next++;
      const item = items[place];
      if (!item || item.state === "home" || item.state === "there") continue;
      const { file, size, shared, source, anew } = item;
      const base: Base = { file, size, ...(shared === undefined ? {} : { shared }), ...(source === undefined ? {} : { source }), ...(anew ? { anew } : {}) };
      const ended = await sendOne(device, base, (sent) => tell(place, { ...base, state: "sending", sent }), signal);
      if (shared !== undefined && (ended.state === "home" || ended.state === "there")) await forgetShared([shared]);
      tell(place, ended);
    }
  };
  await Promise.all(Array.from({ length: AT_ONCE }, worker));
}

type Base = Pick<Item, "file" | "size" | "shared" | "source" | "anew">;

/** When the file was last written; sharing carries no times, and the moment of sharing would only look like one. */
function fileTime({ file, shared }: Base): string | undefined {
  return shared === undefined ? new Date(file.lastModified).toISOString() : undefined;
}

async function sendOne(device: Device, base: Base, progress: (sent: number) => void, signal: AbortSignal): Promise<Item> {
  const { file } = base;
  const time = fileTime(base);
  progress(0);
  let digest: string | undefined;
  try {
    digest = await digestOf(file);
    const answer = digest && !base.anew ? await offer(device, base, digest) : "want";
    if (answer === "have") return { ...base, state: "there" };
    if (typeof answer === "object") return { ...base, state: "failed", why: answer.no };
  } catch (e) {
    if (e instanceof Revoked) throw e;
    // The offer only saves sending; the upload says what is wrong, or tries again until there is a connection.
  }
  return new Promise((resolve, reject) => {
    const upload = new Upload(file, {
      endpoint: "/tus/",
      headers: { Authorization: `Bearer ${device.token}` },
      metadata: { filename: file.name, source: base.source ?? "Night page", ...(time ? { mtime: time } : {}), ...(digest ? { sha256: digest } : {}) },
      retryDelays: [0, 1000, 3000, 5000, 10_000, 20_000, 30_000, 60_000],
      removeFingerprintOnSuccess: true,
      onProgress: progress,
      onSuccess: ({ lastResponse }) => resolve({ ...base, state: "home", original: lastResponse.getHeader("ypogeion-original") }),
      onError: (e) => {
        const response = "originalResponse" in e ? e.originalResponse : null;
        if (response?.getStatus() === 401) reject(new Revoked());
        else resolve({ ...base, state: "failed", why: said(response?.getBody()) });
      },
    });
    signal.addEventListener("abort", () => void upload.abort().then(() => resolve({ ...base, state: "waiting" })), { once: true });
    // What an earlier visit began goes on where it stopped.
    void upload.findPreviousUploads().then((earlier) => {
      if (earlier[0]) upload.resumeFromPreviousUpload(earlier[0]);
      if (!signal.aborted) upload.start();
    });
  });
}

/** The sentence of a problem document, or that nobody answers. */
function said(body: string | undefined): string {
  try {
    const problem: unknown = JSON.parse(body ?? "");
    if (problem && typeof problem === "object" && "detail" in problem && typeof problem.detail === "string") return problem.detail;
  } catch {
    // Not a problem document.
  }
  return "The server does not answer. Try again when this phone has a connection.";
}
