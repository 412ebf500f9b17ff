/** A machine without a household: with the code that the service printed, one is made here, or restored from its recovery kit. */
import { useQuery } from "@tanstack/react-query";
import { RadioGroup } from "radix-ui";
import { useCallback, useEffect, useState, type FormEvent, type ReactNode } from "react";
import { ask, type Failure, type Schemas } from "../api/client";
import { useDo } from "../api/hooks";
import { Check, Choice } from "../ui/choose";
import { Button, Field, State, TextButton } from "../ui/parts";
import { Fault } from "../ui/states";
import { Outside } from "./sign-in";

type View = Schemas["Door"];
const KEY = ["door"] as const;
const header = (code: string) => ({ "x-ypogeion-code": code });

export function Door({ leave }: { leave: () => void }) {
  const [code, setCode] = useState<string>();
  const [lost, setLost] = useState(false);
  const again = useCallback(() => {
    setLost(true);
    setCode(undefined);
  }, []);
  return <Outside wide>{code === undefined ? <Bell lost={lost} onCode={setCode} /> : <Inside code={code} leave={leave} onLost={again} />}</Outside>;
}

function Bell({ lost, onCode }: { lost: boolean; onCode: (code: string) => void }) {
  const [typed, setTyped] = useState("");
  const knock = useDo(() => ask<View>("/api/door", "GET", undefined, header(typed)), []);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    knock.mutate(undefined, { onSuccess: () => onCode(typed) });
  };
  return (
    <>
      <h1 className="m-0 text-[29px] leading-tight">{lost ? "The server was restarted" : "Set up this server"}</h1>
      <p className="mt-2 mb-6 max-w-[58ch] text-[17px] text-soft">
        {lost
          ? "What it was doing was interrupted. Type the new code that it showed when it started; it continues where it stopped."
          : "This server is not set up yet. Type the code that it showed when it started: in its terminal, or with “journalctl -u ypogeiond”."}
      </p>
      <form onSubmit={submit} className="flex max-w-[380px] flex-col gap-4">
        <Field label="Code" name="code" autoComplete="off" autoCapitalize="characters" spellCheck={false} placeholder="like 7KQ2-M9X4" autoFocus required value={typed} onChange={(e) => setTyped(e.target.value)} />
        {knock.isError && <Wrong>{knock.error.detail}</Wrong>}
        <Button look="strong" type="submit" className="py-2.5" disabled={knock.isPending}>
          Continue
        </Button>
      </form>
    </>
  );
}

const Wrong = ({ children }: { children: ReactNode }) => (
  <p role="alert" className="m-0 text-[15px] font-semibold text-oxide">
    {children}
  </p>
);

function Inside({ code, leave, onLost }: { code: string; leave: () => void; onLost: () => void }) {
  // What was seen last is kept: the door is gone once the household is there, and only the service behind it answers.
  const [begun, setBegun] = useState(false);
  const [last, setLast] = useState<View>();
  const door = useQuery<View, Failure>({
    queryKey: KEY,
    queryFn: async () => {
      const view = await ask<View>("/api/door", "GET", undefined, header(code));
      setLast(view);
      if (view.state === "open") setBegun(false);
      return view;
    },
    refetchInterval: (q) => (q.state.error?.kind !== "not-found" && (begun || q.state.data?.state === "busy") ? 700 : false),
    retry: false,
  });
  // Only the service behind the door says that there is none; one that does not answer may have been killed.
  const kind = door.isError ? door.error.kind : "";
  const [lost, away] = [kind === "wrong-password", kind === "offline"];
  useEffect(() => {
    if (lost) onLost();
  }, [lost, onLost]);
  if (last && (begun || last.state !== "open")) return <Under told={last.told} away={away} through={kind === "not-found" || last.state === "through"} leave={leave} />;
  if (door.isError) return <Fault failure={door.error} again={() => void door.refetch()} />;
  return door.data ? <Choosing view={door.data} code={code} onBegun={() => setBegun(true)} again={() => void door.refetch()} /> : null;
}

/** What is being done, and, when the house is there, the way in. */
function Under({ told, away, through, leave }: { told: string[]; away: boolean; through: boolean; leave: () => void }) {
  const ready = useQuery<boolean, Failure>({
    queryKey: ["door", "ready"],
    queryFn: async () => {
      // Asked by somebody without a session: the service answers when it says so.
      const response = await fetch("/api/session").catch(() => undefined);
      return response?.status === 401 || response?.ok === true;
    },
    enabled: through,
    refetchInterval: (q) => (q.state.data ? false : 500),
  });
  return (
    <>
      <h1 className="m-0 text-[29px] leading-tight">{through ? "The server is ready" : told.length > 0 ? "Restoring the household" : "Setting up the household"}</h1>
      <p className="mt-2 mb-5 max-w-[60ch] text-[17px] text-soft">
        {through
          ? told.length > 0
            ? "Sign in with your name and the new password. Pictures that are not on this server are fetched by themselves, the newest first; the overview counts them. Under Devices and people, set a new password for everybody else, and pair every device again."
            : "Sign in with your name and password. Then print the recovery kit and add a store, under Offsite, and pair the first phone, under Devices and people."
          : "You may close this page; it continues without it. If the server is interrupted, give it the kit again; it continues where it stopped."}
      </p>
      {told.length > 0 && (
        <ol aria-label="What was done" aria-live="polite" className="border-line bg-raised m-0 mb-5 max-h-[260px] list-none overflow-y-auto rounded-lg border px-4 py-3 text-[15px]">
          {told.map((line, n) => (
            <li key={n} className={`break-words ${line.startsWith(" ") ? "pl-5 text-soft" : "font-semibold"}`}>
              {line.trim()}
            </li>
          ))}
        </ol>
      )}
      {through ? (
        <Button look="strong" className="w-full max-w-[380px] py-2.5" disabled={!ready.data} onClick={leave}>
          {ready.data ? "Sign in" : "Starting …"}
        </Button>
      ) : (
        <p role="status" className="m-0 text-soft">
          {away ? <State tone="look">The server does not answer. Is it still running?</State> : <State tone="busy">running</State>}
        </p>
      )}
    </>
  );
}

function Choosing({ view, code, onBegun, again }: { view: View; code: string; onBegun: () => void; again: () => void }) {
  const [what, setWhat] = useState(view.begun ? "back" : "new");
  const [accepted, setAccepted] = useState(false);
  const [form, setForm] = useState({ household: "", keeper: "", password: "", once: "", kit: "", endpoint: "" });
  const field = (name: keyof typeof form) => ({
    name,
    value: form[name],
    onChange: (e: { target: { value: string } }) => setForm({ ...form, [name]: e.target.value }),
  });
  const begin = useDo(
    () =>
      what === "new"
        ? ask("/api/door/household", "POST", { household: form.household, keeper: form.keeper, password: form.password, accept_place: accepted }, header(code))
        : ask("/api/door/kit", "POST", { kit: form.kit, password: form.password, endpoint: form.endpoint || null, accept_place: accepted }, header(code)),
    [KEY],
  );
  const differ = form.once !== "" && form.once !== form.password;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (!differ) begin.mutate(undefined, { onSuccess: onBegun });
  };
  return (
    <form onSubmit={submit}>
      <h1 className="m-0 text-[29px] leading-tight">{view.begun ? "Restoring was interrupted" : "Set up this server"}</h1>
      {view.begun ? (
        <p className="mt-2 mb-5 max-w-[60ch] text-[17px] text-soft">Give the recovery kit again. Restoring continues where it stopped; nothing is fetched twice.</p>
      ) : (
        <RadioGroup.Root value={what} onValueChange={setWhat} aria-label="What to do" className="mt-2 mb-4">
          <Choice value="new" title="Begin a new household">
            You become its keeper, the person who looks after it. Then you add people and their phones.
          </Choice>
          <Choice value="back" title="Restore our household from its recovery kit">
            For a new machine, or a lost database. People, devices, rules and every picture come back. What is still in the library’s folder stays there and is checked.
          </Choice>
        </RadioGroup.Root>
      )}
      {view.failed && (
        <div role="alert" className="border-oxide mb-5 border-l-4 py-1 pl-4">
          <p className="m-0 font-semibold">This did not work</p>
          <p className="mt-1 mb-0 max-w-prose break-words text-soft">{view.failed}</p>
        </div>
      )}
      <div className="flex max-w-[560px] flex-col gap-4">
        {what === "new" ? (
          <div className="grid gap-4 sm:grid-cols-2">
            <Field label="Name of the household" placeholder="like Mill House" required maxLength={60} {...field("household")} />
            <Field label="Your name" placeholder="as the others call you" autoComplete="username" required maxLength={60} {...field("keeper")} />
          </div>
        ) : (
          <label className="block">
            <span className="mb-1 block text-[14px] font-semibold">The text of the recovery kit</span>
            <textarea rows={6} required spellCheck={false} autoComplete="off" className="border-line bg-raised w-full rounded-lg border px-3 py-2 font-mono text-[13.5px] text-ink placeholder:text-soft/70" placeholder="All lines of the sheet, as they are printed." {...field("kit")} />
            <span className="mt-1 block text-[13.5px] text-soft">Type it from the sheet, or scan its code. Typing mistakes are noticed before anything begins.</span>
          </label>
        )}
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label={what === "new" ? "Your password" : "A new password for you"} type="password" autoComplete="new-password" required minLength={10} hint="At least ten characters." {...field("password")} />
          <Field label="Repeat the password" type="password" autoComplete="new-password" required {...field("once")} />
        </div>
        {differ && <Wrong>The two passwords are not the same.</Wrong>}
        {what === "back" && (
          <details>
            <summary className="w-fit cursor-pointer text-[15px]">The store has another address than on the kit</summary>
            <div className="mt-3">
              <Field label="Its address now" placeholder="as in the kit" autoComplete="off" spellCheck={false} {...field("endpoint")} />
            </div>
          </details>
        )}
        <Place view={view} accepted={accepted} onAccept={setAccepted} again={again} />
        {begin.isError && <Wrong>{begin.error.detail}</Wrong>}
        <Button look="strong" type="submit" className="py-2.5" disabled={begin.isPending || differ || (view.grave && !accepted)}>
          {what === "new" ? "Set up the household" : "Restore the household"}
        </Button>
      </div>
    </form>
  );
}

/** Where the library will live, and what there is to think about. */
function Place({ view, accepted, onAccept, again }: { view: View; accepted: boolean; onAccept: (yes: boolean) => void; again: () => void }) {
  return (
    <div className={`border-l-4 py-0.5 pl-4 ${view.grave ? "border-ochre" : "border-line"}`}>
      <p className="m-0 text-[15px]">
        Pictures are kept in <b className="font-semibold break-all">{view.library}</b>
        {view.warnings.length === 0 && ". No problems found"}.
      </p>
      {view.warnings.length > 0 && (
        <ul className="mt-1.5 mb-0 max-w-prose list-disc space-y-1 pl-5 text-[14.5px] text-soft">
          {view.warnings.map((w) => (
            <li key={w}>{w[0]?.toUpperCase() + w.slice(1)}.</li>
          ))}
        </ul>
      )}
      {view.grave && (
        <>
          <Check checked={accepted} onChange={onAccept} title="I understand, and want to use this folder" className="mt-2 text-[15px]" />
          <p className="mt-1.5 mb-0 text-[14px] text-soft">
            Or choose another folder: name it as “library” in the settings file and restart the service. If you have just connected a disk,{" "}
            <TextButton className="text-[14px]" onClick={again}>
              look again
            </TextButton>
            .
          </p>
        </>
      )}
    </div>
  );
}
