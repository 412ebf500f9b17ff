/** The household's key: the kit that opens everything, whether it was kept, and what the server keeps of it. */
import { useState, type FormEvent, type ReactNode } from "react";
import { ask, type Failure, type Schemas } from "../api/client";
import { keys, useDo, useKey } from "../api/hooks";
import { counted, size } from "../format";
import { Button, Dialog, Field, State, When, type Tone } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";
import { Confirm } from "../ui/confirm";

type Key = Schemas["HouseKey"];
type What = "kit" | "proof" | "renew" | "strict" | "lend" | "back" | "others";

const stale = [keys.key, keys.overview] as const;

/** What each state of the kit means, and what to do about it. */
const KIT: { [state: string]: { tone: Tone; word: string; text: string } } = {
  missing: { tone: "trouble", word: "not printed yet", text: "If this server is lost, nobody can open the copies without the kit. Print it and keep it in another house." },
  outdated: { tone: "look", word: "out of date", text: "Keys or stores have changed since it was printed. Print it again, and throw the old one away." },
  unproven: { tone: "look", word: "not checked", text: "It was shown here. Type a part of it back from the printed sheet: then it is certain that the sheet exists and can be read." },
  proven: { tone: "well", word: "printed and checked", text: "Somebody typed a part of it back from the sheet." },
  needless: { tone: "quiet", word: "not needed yet", text: "The kit says where the copies are. Add a store first." },
};

export function KeyView() {
  const key = useKey();
  const [what, setWhat] = useState<What>();
  if (key.isPending) return <Waiting what="the key" />;
  if (key.isError) return <Fault failure={key.error} again={() => void key.refetch()} />;
  const k = key.data;
  const kit = KIT[k.kit.state] ?? { tone: "quiet" as Tone, word: k.kit.state, text: "" };
  const close = () => setWhat(undefined);
  return (
    <section className="border-line mt-10 border-t pt-5" aria-labelledby="key">
      <h2 id="key" className="m-0 text-[23px]">
        Who can open the copies?
      </h2>
      <p className="mt-0.5 mb-2 max-w-[70ch] text-soft">Copies are encrypted (“sealed”) before they leave the house. Whoever runs a store cannot see a picture. Only these can open them:</p>
      <ul className="m-0 list-none p-0">
        <Line name="The recovery kit" state={<State tone={kit.tone}>{kit.word}</State>} text={kit.text} at={k.kit.proven_at ?? k.kit.shown_at}>
          {k.kit.state !== "needless" && !k.strict && (
            <Button look={k.kit.state === "proven" ? "plain" : "strong"} onClick={() => setWhat("kit")}>
              {k.kit.state === "proven" ? "Show the kit" : "Print the kit"}
            </Button>
          )}
          {k.kit.state === "unproven" && <Button onClick={() => setWhat("proof")}>Check the printed sheet …</Button>}
          {!k.strict && k.kit.state !== "needless" && <Button onClick={() => setWhat("renew")}>New key …</Button>}
        </Line>
        <Line
          name="This server"
          state={k.strict ? <State tone="quiet">{k.opens ? "can open them for an hour" : "cannot open them"}</State> : k.lacks > 0 ? <State tone="look">cannot open all of them</State> : <State tone="well">can open them</State>}
          text={
            k.strict
              ? k.opens
                ? "You have lent it the key. For an hour it can hold drills and replace what is damaged at home."
                : "It keeps no key. It sends copies and compares them, still encrypted; so nothing can be called proven. For a drill, lend it the key from the kit."
              : k.lacks > 0
                ? `It lacks ${counted(k.lacks, "earlier key")} of the household, and cannot open copies that were sealed for ${k.lacks === 1 ? "it" : "them"}. ${k.lacks === 1 ? "It is" : "They are"} on the kit, in the lines “Older key”.`
                : "It can hold drills, and replace what is damaged at home by itself. Whoever breaks into this server could open the copies, but could also see the originals on it."
          }
        >
          {k.strict ? (
            <>
              <Button onClick={() => setWhat("lend")}>Lend it the key for an hour …</Button>
              <Button onClick={() => setWhat("back")}>Let the server keep the key again …</Button>
            </>
          ) : (
            <>
              {k.lacks > 0 && <Button onClick={() => setWhat("back")}>Give the server all keys …</Button>}
              {k.kit.state !== "needless" && <Button onClick={() => setWhat("strict")}>Remove the key from the server …</Button>}
            </>
          )}
        </Line>
        {k.others.map((o) => (
          <Other key={o.recipient} other={o} />
        ))}
      </ul>
      <Button className="mt-2" onClick={() => setWhat("others")}>
        Let somebody else open the copies …
      </Button>
      {k.to_reseal > 0 && (
        <p className="mt-3 mb-0 text-[14.5px] text-soft">
          {counted(k.to_reseal, "copy", "copies")}, {size(k.to_reseal_bytes)}, {k.to_reseal === 1 ? "is" : "are"} still sealed for the earlier keys, and will be sealed anew, a part each day.
        </p>
      )}
      {what === "kit" && <KitDialog onClose={close} onProve={() => setWhat("proof")} />}
      {what === "proof" && <ProofDialog onClose={close} />}
      {what === "renew" && <RenewDialog onClose={close} onDone={() => setWhat("kit")} />}
      {what === "strict" && <StrictDialog state={k} onClose={close} />}
      {(what === "lend" || what === "back") && <LendDialog keep={what === "back"} earlier={k.earlier} onClose={close} />}
      {what === "others" && <OthersDialog onClose={close} />}
    </section>
  );
}

function Line({ name, state, text, at, children }: { name: string; state: ReactNode; text: string; at?: string | null; children?: ReactNode }) {
  return (
    <li className="border-line grid gap-x-6 gap-y-1 border-b py-3 last:border-b-0 sm:grid-cols-[200px_1fr_auto] sm:items-start">
      <div>
        <b className="block font-semibold">{name}</b>
        {state}
      </div>
      <p className="m-0 min-w-0 max-w-[62ch]">
        {text}
        {at && (
          <span className="block text-[14px] text-soft">
            <When at={at} />
          </span>
        )}
      </p>
      <div className="flex flex-wrap gap-2 sm:max-w-[220px] sm:justify-end">{children}</div>
    </li>
  );
}

function Other({ other: o }: { other: Schemas["OtherRecipient"] }) {
  const [asking, setAsking] = useState(false);
  const remove = useDo(() => ask(`/api/key/recipients/${o.recipient}`, "DELETE"), stale);
  return (
    <Line name={o.name} state={<State tone="quiet">can open them, too</State>} text={`With their key ${o.recipient.slice(0, 14)}…${o.recipient.slice(-6)}.`} at={o.added_at}>
      <Button look="danger" onClick={() => setAsking(true)}>
        Remove their access …
      </Button>
      {asking && (
        <Confirm
          title={`Remove the access of ${o.name}?`}
          action="Remove their access"
          busy={remove.isPending}
          failure={remove.error}
          onConfirm={() => remove.mutate(undefined, { onSuccess: () => setAsking(false) })}
          onClose={() => setAsking(false)}
        >
          <p className="m-0">What is sent from now on cannot be opened with their key. Copies that are already in the stores are sealed anew over the next weeks; until then, their key opens them.</p>
        </Confirm>
      )}
    </Line>
  );
}

/** A dialog that asks for the keeper's password before it does something. */
function WithPassword({ title, children, label, danger, pending, failure, onClose, onConfirm, extra }: {
  title: string;
  children: ReactNode;
  label: string;
  danger?: boolean;
  pending: boolean;
  failure: Failure | null;
  onClose: () => void;
  onConfirm: (password: string) => void;
  extra?: ReactNode;
}) {
  const [password, setPassword] = useState("");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    onConfirm(password);
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={title}>
      {children}
      <form onSubmit={submit} className="mt-4 flex flex-col gap-4">
        {extra}
        <Field label="Your password" type="password" autoComplete="current-password" required value={password} onChange={(e) => setPassword(e.target.value)} />
        {failure && <Fault failure={failure} />}
        <Button look={danger ? "danger" : "strong"} type="submit" disabled={pending}>
          {label}
        </Button>
      </form>
    </Dialog>
  );
}

function RenewDialog({ onClose, onDone }: { onClose: () => void; onDone: () => void }) {
  const renew = useDo((password: string) => ask("/api/key/renew", "POST", { password }), stale);
  return (
    <WithPassword title="Make a new key?" label="Make a new key" pending={renew.isPending} failure={renew.error} onClose={onClose} onConfirm={(p) => renew.mutate(p, { onSuccess: onDone })}>
      <p className="m-0">
        Do this when the sheet was lost, or somebody has seen it. You must print the kit again at once. Over the next weeks the copies in the stores are sealed anew, a part each day. After that, the old sheet opens no picture any more.
      </p>
      <p className="mt-2 mb-0 text-soft">If the sheet may have been stolen, change the store’s access keys at the store, too: they are printed on it.</p>
    </WithPassword>
  );
}

function StrictDialog({ state, onClose }: { state: Key; onClose: () => void }) {
  const forget = useDo((password: string) => ask("/api/key/strict", "POST", { password }), stale);
  if (state.kit.state !== "proven") {
    return (
      <Dialog open onOpenChange={(o) => !o && onClose()} title="Print the kit first">
        <p className="m-0">After this, only the recovery kit can open the copies. Print it as it is now and type a part of it back. Then you can remove the key from the server.</p>
      </Dialog>
    );
  }
  return (
    <WithPassword title="Remove the key from the server?" label="Remove the key" danger pending={forget.isPending} failure={forget.error} onClose={onClose} onConfirm={(p) => forget.mutate(p, { onSuccess: onClose })}>
      <p className="m-0">
        Then only the kit can open the copies. The server still seals, sends and compares copies. Without the key it cannot hold drills, replace what is damaged at home, or prove copies; for that, you can lend it the key for an hour.
      </p>
      <p className="mt-2 mb-0 text-soft">If phones may delete only what is “proven”, they delete nothing from then on. To change this, choose “offsite” under House rules.</p>
    </WithPassword>
  );
}

function LendDialog({ keep, earlier, onClose }: { keep: boolean; earlier: number; onClose: () => void }) {
  const [key, setKey] = useState("");
  const lend = useDo(() => ask("/api/key/lend", "POST", { key: key.trim(), keep }), stale);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    lend.mutate(undefined, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={keep ? "Let the server keep the key" : "Lend the server the key"}>
      <p className="mt-0">{keep ? "It keeps the key from now on. It can hold drills and replace what is damaged by itself." : "For an hour, and only in memory: for a drill, or to replace what is damaged at home."}</p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <label className="block">
          <span className="mb-1 block text-[14px] font-semibold">The line “Key” of the kit{earlier > 0 && `, and its ${counted(earlier, "line")} “Older key”`}</span>
          <textarea
            className="border-line bg-raised w-full rounded-lg border px-3 py-2 font-mono text-[14px] text-ink placeholder:text-soft/70"
            rows={Math.min(2 + 2 * earlier, 8)}
            required
            autoComplete="off"
            spellCheck={false}
            placeholder="AGE-SECRET-KEY-1…"
            value={key}
            onChange={(e) => setKey(e.target.value)}
          />
          {earlier > 0 && <span className="mt-1 block text-[13.5px] text-soft">You can also paste the whole kit; other lines are ignored.</span>}
        </label>
        {lend.isError && <Fault failure={lend.error} />}
        <Button look="strong" type="submit" disabled={lend.isPending}>
          {keep ? "Save" : "Lend it for an hour"}
        </Button>
      </form>
    </Dialog>
  );
}

function OthersDialog({ onClose }: { onClose: () => void }) {
  const [form, setForm] = useState({ name: "", recipient: "" });
  const add = useDo((password: string) => ask("/api/key/recipients", "POST", { ...form, password }), stale);
  return (
    <WithPassword
      title="Let somebody else open the copies"
      label="Give them access"
      pending={add.isPending}
      failure={add.error}
      onClose={onClose}
      onConfirm={(p) => add.mutate(p, { onSuccess: onClose })}
      extra={
        <>
          <Field label="Who" required placeholder="The aunt’s safe" value={form.name} onChange={(e) => setForm({ ...form, name: e.currentTarget.value })} />
          <Field label="Their key" required placeholder="age1…" hint="The public half; age-keygen prints it." spellCheck={false} autoComplete="off" value={form.recipient} onChange={(e) => setForm({ ...form, recipient: e.currentTarget.value })} />
        </>
      }
    >
      <p className="m-0">With their own key they can open every copy that they can get. Copies that are already in the stores are sealed anew for them over the next weeks.</p>
    </WithPassword>
  );
}

function ProofDialog({ onClose }: { onClose: () => void }) {
  const [form, setForm] = useState({ key_end: "", check: "" });
  const prove = useDo(() => ask("/api/kit/proof", "POST", form), stale);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    prove.mutate(undefined, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title="Check the printed kit">
      <p className="mt-0">Take the printed sheet, and type from it:</p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field label="The last 8 characters of the line “Key”" required autoComplete="off" spellCheck={false} maxLength={12} className="border-line bg-raised w-full rounded-lg border px-3 py-2 font-mono text-[16px] text-ink uppercase" value={form.key_end} onChange={(e) => setForm({ ...form, key_end: e.currentTarget.value })} />
        <Field label="The line “Check”" required autoComplete="off" spellCheck={false} maxLength={12} className="border-line bg-raised w-full rounded-lg border px-3 py-2 font-mono text-[16px] text-ink" value={form.check} onChange={(e) => setForm({ ...form, check: e.currentTarget.value })} />
        {prove.isError && <Fault failure={prove.error} />}
        <Button look="strong" type="submit" disabled={prove.isPending}>
          Check
        </Button>
      </form>
    </Dialog>
  );
}

function KitDialog({ onClose, onProve }: { onClose: () => void; onProve: () => void }) {
  const [password, setPassword] = useState("");
  const show = useDo((p: string) => ask<Schemas["Kit"]>("/api/kit", "POST", { password: p }), stale);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    show.mutate(password);
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title="Recovery kit" wide>
      {show.data ? (
        <div className="sheet">
          <p className="mt-0">
            If this server is lost: install Ypogeion on another computer with Linux, start <code className="text-[14px]">ypogeiond serve</code>, open the address that it shows, and type in this sheet. People, devices and all pictures come back. (Only the pictures: <code className="text-[14px] sm:whitespace-nowrap">ypogeiond recover --kit kit.txt --to FOLDER</code>.) Whoever has this sheet can see all pictures. Print it and keep it in another house.
          </p>
          <div className="flex flex-wrap items-start gap-5">
            {/* biome-ignore lint/security/noDangerouslySetInnerHtml: this server has drawn it, from its own text */}
            <div className="rounded-[10px] bg-white p-2 leading-none [&>svg]:size-[240px]" role="img" aria-label="The recovery kit as a QR code" dangerouslySetInnerHTML={{ __html: show.data.qr_svg }} />
            <pre className="border-line bg-raised m-0 min-w-0 flex-1 basis-[300px] rounded-lg border p-3 font-mono text-[13px] leading-relaxed break-all whitespace-pre-wrap">{show.data.text}</pre>
          </div>
          <div className="mt-5 flex gap-2 print:hidden">
            <Button look="strong" onClick={() => window.print()}>
              Print
            </Button>
            <Button onClick={onProve}>I have printed it: check it</Button>
          </div>
        </div>
      ) : (
        <form onSubmit={submit} className="flex flex-col gap-4">
          <p className="m-0">The kit opens everything. So please type your password again.</p>
          <Field label="Your password" type="password" autoComplete="current-password" required autoFocus value={password} onChange={(e) => setPassword(e.target.value)} />
          {show.isError && <Fault failure={show.error} />}
          <Button look="strong" type="submit" disabled={show.isPending}>
            Show the kit
          </Button>
        </form>
      )}
    </Dialog>
  );
}
