/** The night page: a phone lies on the table, awake and dark, and sends. Honest about what a browser cannot do. */
import { useCallback, useEffect, useRef, useState } from "react";
import type { Failure, Me } from "../api/client";
import { count, counted, size } from "../format";
import { becomeDevice, forgetDevice, forgetShared, ownDevice, Revoked, sendAll, sharedFiles, type Device, type Item } from "../night/sending";
import { Button, Field, Page, State } from "../ui/parts";
import { Fault } from "../ui/states";

export function Night({ me }: { me: Me }) {
  const [device, setDevice] = useState(() => ownDevice(me.id));
  const revoked = () => {
    forgetDevice(me.id);
    setDevice(undefined);
  };
  return (
    <Page title="Night page" lead="For a phone or tablet without the Ypogeion client: choose pictures, connect the charger, and let it send.">
      {device ? <Sender device={device} onRevoked={revoked} /> : <Begin me={me} onBegun={setDevice} />}
      <aside className="border-line mt-10 max-w-prose border-t pt-4 text-[14.5px] text-soft">
        <p className="m-0">
          A browser sends only while this page is open and in front. When the screen locks, or another app comes forward, sending pauses; it continues when you come back, and nothing is sent twice. A browser also
          cannot see which pictures are new; you choose them. On most phones this page can be put on the home screen, and other apps can share pictures with it; those are kept here until they are sent.
        </p>
      </aside>
    </Page>
  );
}

function Begin({ me, onBegun }: { me: Me; onBegun: (device: Device) => void }) {
  const [name, setName] = useState(`${me.name}’s browser`);
  const [failure, setFailure] = useState<Failure>();
  const begin = () => becomeDevice(me.id, name, "phone").then(onBegun, (e: Failure) => setFailure(e));
  return (
    <div className="mt-6 max-w-md">
      <p className="mt-0">This browser becomes one of your devices. It can add to your pictures and read them, but delete nothing. You can revoke it under Devices at any time.</p>
      <Field label="Name of this browser" value={name} maxLength={60} onChange={(e) => setName(e.target.value)} />
      {failure && <Fault failure={failure} />}
      <Button look="strong" className="mt-4" onClick={() => void begin()} disabled={name.trim() === ""}>
        Let this browser send
      </Button>
    </div>
  );
}

function Sender({ device, onRevoked }: { device: Device; onRevoked: () => void }) {
  const [items, setItems] = useState<Item[]>([]);
  const [running, setRunning] = useState<AbortController>();
  const [dark, setDark] = useState(false);
  const awake = useAwake(running !== undefined);
  const rate = useRate(items, running !== undefined);
  const add = useCallback((items: Item[]) => setItems((now) => [...now, ...items.filter((item) => !now.some((i) => same(i.file, item.file)))]), []);
  const choose = (files: File[]) => add(files.map((file) => ({ file, size: file.size, state: "waiting" })));
  // The outside systems: the service worker that takes what other apps share, and where it keeps it.
  useEffect(() => {
    if ("serviceWorker" in navigator && window.isSecureContext) void navigator.serviceWorker.register("/share.js").catch(() => undefined);
    void sharedFiles().then(add, () => undefined);
  }, [add]);
  const start = () => {
    const stop = new AbortController();
    setRunning(stop);
    const tell = (place: number, item: Item) => setItems((now) => now.map((i, n) => (n === place ? item : i)));
    sendAll(device, items, tell, stop.signal)
      .catch((e: unknown) => e instanceof Revoked && onRevoked())
      .finally(() => {
        setRunning(undefined);
        setDark(false);
      });
  };
  // Nothing is lost by it: what is home is home, and the rest is where it was chosen.
  const clear = () => {
    void forgetShared(items.flatMap((i) => i.shared ?? []));
    setItems([]);
  };
  const done = items.filter((i) => i.state === "home" || i.state === "there").length;
  const failed = items.filter((i) => i.state === "failed");
  const all = items.reduce((sum, i) => sum + i.size, 0);
  const sent = items.reduce((sum, i) => sum + (i.state === "sending" ? i.sent : i.state === "home" || i.state === "there" ? i.size : 0), 0);
  const left = rate > 0 ? Math.ceil((all - sent) / rate / 60) : 0;
  return (
    <div className="mt-6">
      {!running && (
        <label className="border-soft/60 hover:border-accent flex max-w-xl cursor-pointer flex-col items-start rounded-[10px] border-2 border-dashed px-5 py-6 focus-within:outline-2 focus-within:outline-accent">
          <span className="text-[17px] font-semibold">Choose pictures and videos</span>
          <span className="text-[14.5px] text-soft">You can choose whole albums. What is on the server already is not sent again.</span>
          <span aria-hidden className="border-line bg-raised mt-3 rounded-lg border px-3.5 py-1.5 text-[15px] font-semibold">
            Choose …
          </span>
          <input type="file" multiple accept="image/*,video/*" className="sr-only" onChange={(e) => choose([...(e.target.files ?? [])])} />
        </label>
      )}
      {items.length > 0 && (
        <div className="mt-5 max-w-xl" aria-live="polite">
          <p className="m-0 text-[19px]">
            {done === items.length ? (
              <State tone="well">{items.length === 1 ? "It has arrived." : `All ${count(items.length)} have arrived.`}</State>
            ) : (
              `${count(done)} of ${counted(items.length, "file")} have arrived, ${size(sent)} of ${size(all)}`
            )}
          </p>
          {running && (
            <p className="m-0 text-[15px] text-soft">
              {rate > 0 ? `${size(rate)} a second, about ${counted(Math.max(left, 1), "minute")} left. ` : "Starting … "}
              {awake ? "The screen stays on." : "This browser cannot keep the screen on. In the phone’s settings, let the screen stay on as long as possible."}
            </p>
          )}
          <div className="bg-line mt-3 h-2.5 overflow-hidden rounded" role="progressbar" aria-label="Sent" aria-valuemin={0} aria-valuemax={100} aria-valuenow={Math.round((100 * sent) / Math.max(all, 1))}>
            <div className="bg-accent h-full" style={{ width: `${(100 * sent) / Math.max(all, 1)}%` }} />
          </div>
          <div className="mt-4 flex flex-wrap gap-2">
            {!running && done < items.length && (
              <Button look="strong" onClick={start}>
                {failed.length > 0 ? "Send the rest" : `Send ${counted(items.length - done, "file")}`}
              </Button>
            )}
            {!running && <Button onClick={clear}>Clear the list</Button>}
            {running && <Button onClick={() => setDark(true)}>Darken the screen</Button>}
            {running && <Button onClick={() => running.abort()}>Stop</Button>}
          </div>
          {failed.length > 0 && (
            <ul className="m-0 mt-5 list-none p-0 text-[14.5px]">
              {failed.map((i) => (
                <li key={i.file.name} className="border-line border-t py-2">
                  <b className="font-semibold">{i.file.name}</b>
                  <span className="block text-soft">{i.state === "failed" && i.why}</span>
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
      {dark && running && <Dark done={done} all={items.length} onWake={() => setDark(false)} />}
    </div>
  );
}

const same = (a: File, b: File) => a.name === b.name && a.size === b.size && a.lastModified === b.lastModified;

/** A black screen with one faint line, which wanders so that it burns into nothing. A touch ends it. */
function Dark({ done, all, onWake }: { done: number; all: number; onWake: () => void }) {
  const [place, setPlace] = useState(0);
  useEffect(() => {
    const timer = setInterval(() => setPlace((p) => (p + 1) % 5), 20_000);
    return () => clearInterval(timer);
  }, []);
  return (
    <button type="button" autoFocus onClick={onWake} aria-label="Wake the page" className="fixed inset-0 z-50 flex cursor-default items-start justify-center border-0 bg-black p-0">
      <span className="numbers text-[15px] text-[#4d4c42]" style={{ marginTop: `${12 + place * 17}vh` }}>
        {count(done)} of {count(all)} have arrived. Touch the screen to come back.
      </span>
    </button>
  );
}

/** Keeps the screen on while it sends. Browsers take that back when the page goes to the background; it is asked for again. */
function useAwake(wanted: boolean): boolean {
  const [held, setHeld] = useState(false);
  useEffect(() => {
    if (!wanted || !("wakeLock" in navigator)) return;
    let lock: WakeLockSentinel | undefined;
    let over = false;
    const hold = async () => {
      if (document.visibilityState !== "visible") return;
      try {
        lock = await navigator.wakeLock.request("screen");
        if (over) void lock.release();
        else setHeld(true);
        lock.addEventListener("release", () => setHeld(false));
      } catch {
        setHeld(false);
      }
    };
    void hold();
    document.addEventListener("visibilitychange", hold);
    return () => {
      over = true;
      document.removeEventListener("visibilitychange", hold);
      void lock?.release();
      setHeld(false);
    };
  }, [wanted]);
  return held;
}

/** Bytes per second over the last half minute. */
function useRate(items: Item[], running: boolean): number {
  const marks = useRef<{ at: number; sent: number }[]>([]);
  const [rate, setRate] = useState(0);
  const sent = items.reduce((sum, i) => sum + (i.state === "sending" ? i.sent : i.state === "home" ? i.size : 0), 0);
  const latest = useRef(sent);
  latest.current = sent;
  useEffect(() => {
    if (!running) return;
    marks.current = [{ at: Date.now(), sent: latest.current }];
    const timer = setInterval(() => {
      const now = Date.now();
      marks.current = [...marks.current.filter((m) => now - m.at < 30_000), { at: now, sent: latest.current }];
      const first = marks.current[0];
      if (first && now > first.at) setRate(Math.max(0, (1000 * (latest.current - first.sent)) / (now - first.at)));
    }, 1000);
    return () => {
      clearInterval(timer);
      setRate(0);
    };
  }, [running]);
  return rate;
}
