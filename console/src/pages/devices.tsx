/** Devices and people: what each device says it has against what is here; pairing; members. */
import { DropdownMenu, RadioGroup } from "radix-ui";
import { useEffect, useState, type FormEvent } from "react";
import { Link, useLocation } from "react-router";
import { ask, type Device, type Me, type Schemas } from "../api/client";
import { keys, useDevices, useDo, usePeople } from "../api/hooks";
import { count, counted, date, size, until } from "../format";
import { Choice } from "../ui/choose";
import { Button, Dialog, Field, Page, State, table, Table, TextButton, When } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";
import { ConnectDialog } from "./connect";
import { CoverageDialog } from "./coverage";
import { Confirm } from "../ui/confirm";

type Person = Schemas["Person"];

export function Devices({ me }: { me: Me }) {
  const keeper = me.role === "keeper";
  const devices = useDevices();
  const people = usePeople(keeper);
  const [pairing, setPairing] = useState(false);
  const [connecting, setConnecting] = useState(false);
  const [adding, setAdding] = useState(false);
  return (
    <Page
      title={keeper ? "Devices and people" : "Your devices"}
      lead="A device can add pictures, and read those of its owner. It can never delete or change what is here."
      action={
        <div className="flex flex-wrap gap-2">
          <Button look="strong" onClick={() => setPairing(true)}>
            Pair a device
          </Button>
          <Link to="/night" className="border-line bg-raised rounded-lg border px-3.5 py-1.5 text-[15px] font-semibold text-ink no-underline hover:border-soft">
            Send from this browser
          </Link>
          {keeper && <Button onClick={() => setAdding(true)}>Add a person</Button>}
        </div>
      }
    >
      {devices.isPending ? (
        <Waiting what="the devices" />
      ) : devices.isError ? (
        <Fault failure={devices.error} again={() => void devices.refetch()} />
      ) : devices.data.length === 0 ? (
        <Empty title="No device is paired yet">
          “Pair a device” shows a code for a phone, a tablet or a computer. The code works for ten minutes, and for one device.
        </Empty>
      ) : (
        <DeviceTable devices={devices.data} keeper={keeper} />
      )}
      {keeper && people.data && <PeopleTable me={me} people={people.data} />}
      {pairing && (
        <PairDialog
          me={me}
          people={people.data ?? []}
          onClose={() => setPairing(false)}
          onProgram={() => {
            setPairing(false);
            setConnecting(true);
          }}
        />
      )}
      {connecting && <ConnectDialog onClose={() => setConnecting(false)} />}
      {adding && <AddDialog onClose={() => setAdding(false)} />}
    </Page>
  );
}

/** Whether a device has sent what it has; else what is to be looked at. */
export function deviceState(d: Device) {
  if (d.revoked_at) return <State tone="quiet">revoked</State>;
  if (d.ends_at && new Date(d.ends_at) <= new Date()) return <State tone="look">unused for a year: pair it again</State>;
  if (d.sending) return <State tone="busy">sending</State>;
  if (d.refused > 0) return <State tone="look">{count(d.refused)} refused</State>;
  if (d.unread > 0) return <State tone="look">{count(d.unread)} could not be read</State>;
  if (d.waiting_for) return <State tone={d.to_come > 0 ? "look" : "quiet"}>{d.waiting_for}</State>;
  if (d.to_come > 0) return <State tone="look">{count(d.to_come)} to send</State>;
  if (d.ends_at) return <State tone="look">not used: ends {date(d.ends_at)}</State>;
  if (d.has === 0) return <State tone="quiet">nothing sent yet</State>;
  return <State tone="well">all sent</State>;
}

function DeviceTable({ devices, keeper }: { devices: Device[]; keeper: boolean }) {
  const [renaming, setRenaming] = useState<Device>();
  const [revoking, setRevoking] = useState<Device>();
  const [looking, setLooking] = useState<Device>();
  const { hash } = useLocation();
  return (
    <div className="mt-6 overflow-x-auto">
      <Table columns={[{ name: "Device" }, { name: "State" }, { name: "On the device", number: true, from: "sm" }, { name: "Of these here", number: true, from: "sm" }, { name: "Last seen", number: true, from: "sm" }, { name: "Last complete backup", number: true, from: "md" }, { name: "More", number: true, unseen: true }]}>
        <tbody>
          {devices.map((d) => (
            <tr key={d.id} id={d.id} className={hash === `#${d.id}` ? "bg-raised" : undefined}>
              <td className={table.cell}>
                <TextButton className="font-semibold" onClick={() => setLooking(d)}>
                  {d.name}
                </TextButton>
                <span className="block text-[13.5px] text-soft">
                  {keeper && `${d.person_name}, `}
                  {d.kind}
                  {d.partial && ", partly covered"}
                </span>
              </td>
              <td className={`${table.cell} sm:whitespace-nowrap`}>
                {deviceState(d)}
                <span className={`numbers block text-[13.5px] text-soft sm:hidden ${d.has === 0 ? "hidden" : ""}`}>
                  {count(d.home)} of {count(d.has)} here
                </span>
              </td>
              <td className={`${table.number} max-sm:hidden`}>{count(d.has)}</td>
              <td className={`${table.number} max-sm:hidden`}>{count(d.home)}</td>
              <td className={`${table.number} max-sm:hidden`}>{d.seen_at ? <When at={d.seen_at} /> : d.kind === "disk" || d.kind === "archive" ? "adopted" : "never"}</td>
              <td className={`${table.number} max-md:hidden`}>{d.complete_at ? <When at={d.complete_at} /> : "none yet"}</td>
              <td className={`${table.number} w-10`}>
                {!d.revoked_at && (
                  <DropdownMenu.Root>
                    <DropdownMenu.Trigger aria-label={`More for ${d.name}`} className="rounded border-0 bg-transparent px-2 text-[18px] leading-none text-soft hover:text-ink">
                      ⋯
                    </DropdownMenu.Trigger>
                    <DropdownMenu.Portal>
                      <DropdownMenu.Content align="end" className="border-line bg-raised z-40 min-w-44 rounded-[10px] border p-1.5 text-[15px] text-ink shadow-lg">
                        <DropdownMenu.Item className="rounded px-3 py-2 outline-none data-[highlighted]:bg-line/50" onSelect={() => setRenaming(d)}>
                          Rename …
                        </DropdownMenu.Item>
                        <DropdownMenu.Item className="rounded px-3 py-2 text-oxide outline-none data-[highlighted]:bg-line/50" onSelect={() => setRevoking(d)}>
                          Revoke …
                        </DropdownMenu.Item>
                      </DropdownMenu.Content>
                    </DropdownMenu.Portal>
                  </DropdownMenu.Root>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {looking && <CoverageDialog device={looking} onClose={() => setLooking(undefined)} />}
      {renaming && <RenameDialog device={renaming} onClose={() => setRenaming(undefined)} />}
      {revoking && <RevokeDialog device={revoking} onClose={() => setRevoking(undefined)} />}
    </div>
  );
}

function RenameDialog({ device, onClose }: { device: Device; onClose: () => void }) {
  const [name, setName] = useState(device.name);
  const rename = useDo(() => ask(`/api/devices/${device.id}`, "PATCH", { name }), [keys.devices, keys.overview]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    rename.mutate(undefined, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={`Rename ${device.name}`}>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field label="Name" value={name} maxLength={60} required autoFocus onChange={(e) => setName(e.target.value)} />
        {rename.isError && <Fault failure={rename.error} />}
        <Button look="strong" type="submit" disabled={rename.isPending}>
          Rename
        </Button>
      </form>
    </Dialog>
  );
}

function RevokeDialog({ device, onClose }: { device: Device; onClose: () => void }) {
  const revoke = useDo(() => ask(`/api/devices/${device.id}/revoke`, "POST"), [keys.devices, keys.overview]);
  return (
    <Confirm title={`Revoke ${device.name}?`} action="Revoke" busy={revoke.isPending} failure={revoke.error} onConfirm={() => revoke.mutate(undefined, { onSuccess: onClose })} onClose={onClose}>
      <p className="mt-0">From now on it can send and read nothing, even if somebody finds it unlocked.</p>
      <p>
        The {counted(device.home, "file")} that it sent {device.home === 1 ? "stays" : "stay"} here.
        {device.waiting > 0 && ` ${counted(device.waiting, "file")} on it ${device.waiting === 1 ? "was" : "were"} not sent yet.`} To use it again, pair it again.
      </p>
    </Confirm>
  );
}

function PeopleTable({ me, people }: { me: Me; people: Person[] }) {
  const [changing, setChanging] = useState<Person>();
  const [forgot, setForgot] = useState<Person>();
  return (
    <section className="mt-10 overflow-x-auto">
      <h2 className="m-0 mb-3 text-[21px]">People</h2>
      <Table columns={[{ name: "Name" }, { name: "Role", from: "sm" }, { name: "Folder", from: "sm" }, { name: "Files", number: true }, { name: "Size", number: true, from: "sm" }, { name: "Quota", number: true, from: "sm" }, { name: "Password", number: true }]}>
        <tbody>
          {people.map((p) => (
            <tr key={p.id}>
              <td className={table.cell}>
                <b className="font-semibold">{p.name}</b>
                <span className="block text-[13.5px] text-soft sm:hidden">{p.role}</span>
              </td>
              <td className={`${table.cell} max-sm:hidden`}>{p.role}</td>
              <td className={`${table.cell} max-sm:hidden`}>{p.folder}</td>
              <td className={table.number}>{count(p.originals)}</td>
              <td className={`${table.number} max-sm:hidden`}>{size(p.bytes)}</td>
              <td className={`${table.number} max-sm:hidden`}>
                <TextButton title={`Quota of ${p.name}`} onClick={() => setChanging(p)}>
                  {p.quota ? size(p.quota) : p.soft_quota ? `warn at ${size(p.soft_quota)}` : "none"}
                </TextButton>
                {p.quota_state !== "well" && (
                  <span className="block text-[13.5px]">
                    <State tone={p.quota_state === "full" ? "trouble" : "look"}>{p.quota_state === "full" ? "full" : "nearly full"}</State>
                  </span>
                )}
              </td>
              <td className={table.number}>
                {p.id === me.id ? (
                  <Link to="/me" className="text-ink underline decoration-line underline-offset-4 hover:decoration-ink">
                    change
                  </Link>
                ) : (
                  <TextButton aria-label={`Set a new one for ${p.name}`} onClick={() => setForgot(p)}>
                    set a new one
                  </TextButton>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {forgot && <PasswordDialog person={forgot} onClose={() => setForgot(undefined)} />}
      {changing && <QuotaDialog person={changing} onClose={() => setChanging(undefined)} />}
    </section>
  );
}

function PasswordDialog({ person, onClose }: { person: Person; onClose: () => void }) {
  const [password, setPassword] = useState("");
  const change = useDo(() => ask(`/api/people/${person.id}`, "PATCH", { password }), [keys.people]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    change.mutate(undefined, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={`A new password for ${person.name}`}>
      <p className="mt-0 text-soft">For somebody who has forgotten it. All of {person.name}’s sessions end; devices are not affected. Tell it only to {person.name}, who can change it under “Your account”.</p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field label="New password" type="password" autoComplete="new-password" minLength={10} required autoFocus hint="At least ten characters." value={password} onChange={(e) => setPassword(e.target.value)} />
        {change.isError && <Fault failure={change.error} />}
        <Button look="strong" type="submit" disabled={change.isPending}>
          Save
        </Button>
      </form>
    </Dialog>
  );
}

const GB = 1_000_000_000;

function QuotaDialog({ person, onClose }: { person: Person; onClose: () => void }) {
  const shown = (bytes: number | null | undefined) => (bytes ? String(bytes / GB) : "");
  const [form, setForm] = useState({ soft: shown(person.soft_quota), hard: shown(person.quota) });
  const bytes = (text: string) => Math.round(Number(text || "0") * GB);
  const change = useDo(() => ask(`/api/people/${person.id}`, "PATCH", { soft_quota: bytes(form.soft), quota: bytes(form.hard) }), [keys.people]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    change.mutate(undefined, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={`Quota of ${person.name}`}>
      <p className="mt-0 text-soft">
        {person.name} uses {size(person.bytes)}. An empty field means no limit.
      </p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field label="Warn at, in GB" type="number" min="0" step="any" autoFocus value={form.soft} onChange={(e) => setForm({ ...form, soft: e.target.value })} hint="Nothing is refused; this page shows it." />
        <Field label="Refuse above, in GB" type="number" min="0" step="any" value={form.hard} onChange={(e) => setForm({ ...form, hard: e.target.value })} hint="What does not fit is refused, and the device says so. What is here stays." />
        {change.isError && <Fault failure={change.error} />}
        <Button look="strong" type="submit" disabled={change.isPending}>
          Save
        </Button>
      </form>
    </Dialog>
  );
}

function AddDialog({ onClose }: { onClose: () => void }) {
  const [form, setForm] = useState({ name: "", role: "member", password: "" });
  const add = useDo(() => ask("/api/people", "POST", form), [keys.people]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    add.mutate(undefined, { onSuccess: onClose });
  };
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title="Add a person">
      <p className="mt-0 text-soft">A new person, with their own pictures that nobody else sees. For another phone of a person who is in the list, pair a device instead.</p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field label="Name" required maxLength={60} autoFocus value={form.name} onChange={(e) => setForm({ ...form, name: e.target.value })} />
        <div>
          <span className="mb-1 block text-[14px] font-semibold">Role</span>
          <RadioGroup.Root value={form.role} onValueChange={(role) => setForm({ ...form, role })} aria-label="Role">
            <Choice value="member" title="Member">
              Lives here.
            </Choice>
            <Choice value="guest" title="Guest">
              Backs up, and sees only their own pictures.
            </Choice>
          </RadioGroup.Root>
        </div>
        <Field label="First password" type="password" autoComplete="new-password" minLength={10} required hint="At least ten characters. Tell it only to this person." value={form.password} onChange={(e) => setForm({ ...form, password: e.target.value })} />
        {add.isError && <Fault failure={add.error} />}
        <Button look="strong" type="submit" disabled={add.isPending}>
          Add {form.name || "the person"}
        </Button>
      </form>
    </Dialog>
  );
}

function PairDialog({ me, people, onClose, onProgram }: { me: Me; people: Person[]; onClose: () => void; onProgram: () => void }) {
  const [pairing, setPairing] = useState<Schemas["Pairing"]>();
  const create = useDo((person: string) => ask<Schemas["Pairing"]>("/api/pairings", "POST", { person }), []);
  const others = people.filter((p) => p.id !== me.id);
  const forWhom = (id: string) => create.mutate(id, { onSuccess: setPairing });
  const single = others.length === 0;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when there is nothing to choose
  useEffect(() => {
    if (single) forWhom(me.id);
  }, [single]);
  const withdraw = () => {
    if (pairing?.state === "waiting") void ask(`/api/pairings/${pairing.id}`, "DELETE").catch(() => undefined);
  };
  const close = () => {
    withdraw();
    onClose();
  };
  return (
    <Dialog open onOpenChange={(o) => !o && close()} title={pairing ? `A device of ${pairing.person_name}` : "Whose device is it?"} wide={!!pairing}>
      {create.isError && <Fault failure={create.error} />}
      {pairing ? (
        <Code pairing={pairing} onDone={onClose} />
      ) : (
        <div className="flex flex-col gap-2">
          <Button className="text-left" onClick={() => forWhom(me.id)} disabled={create.isPending}>
            Mine ({me.name})
          </Button>
          {others.map((p) => (
            <Button key={p.id} className="text-left" onClick={() => forWhom(p.id)} disabled={create.isPending}>
              {p.name}’s
            </Button>
          ))}
          <p className="mt-2 mb-0 text-[14px] text-soft">If the person is not in this list, add them first.</p>
        </div>
      )}
      <p className="border-line mt-4 mb-0 border-t pt-3 text-[14px] text-soft">
        A camera, or a program that uses WebDAV or tus?{" "}
        <TextButton
          className="font-semibold"
          onClick={() => {
            withdraw();
            onProgram();
          }}
        >
          Connect it with a password
        </TextButton>
      </p>
    </Dialog>
  );
}

function Code({ pairing, onDone }: { pairing: Schemas["Pairing"]; onDone: () => void }) {
  const [now, setNow] = useState(pairing);
  // The outside system: the service, which says when a device has claimed the code.
  useEffect(() => {
    const events = new EventSource("/api/events");
    const look = () => void ask<Schemas["Pairing"]>(`/api/pairings/${pairing.id}`).then(setNow, () => undefined);
    events.addEventListener("devices", look);
    return () => events.close();
  }, [pairing.id]);
  if (now.state === "claimed") {
    return (
      <div>
        <p className="mt-0 text-[17px]">
          <State tone="well">{now.device_name} is paired.</State>
        </p>
        <p className="text-soft">It can add to the pictures of {pairing.person_name} and read them. It cannot delete or change anything.</p>
        <Button look="strong" onClick={onDone}>
          Done
        </Button>
      </div>
    );
  }
  return (
    <div className="flex flex-wrap items-start gap-6">
      {/* biome-ignore lint/security/noDangerouslySetInnerHtml: this server has drawn it, from its own text */}
      <div className="rounded-[10px] bg-white p-2 leading-none [&>svg]:size-[228px]" role="img" aria-label="Pairing code as a QR code" dangerouslySetInnerHTML={{ __html: pairing.qr_svg ?? "" }} />
      <div className="min-w-[240px] flex-1">
        <p className="mt-0 mb-1 text-soft">Scan this with the device, or type the code:</p>
        <p className="numbers m-0 font-head text-[32px] font-medium tracking-[0.06em]">{pairing.code}</p>
        <p className="mt-1 mb-4 text-[14px] text-soft">For one device; the code ends {until(pairing.expires_at)}.</p>
        <p className="mb-1 text-[14px] font-semibold">On a computer</p>
        <textarea readOnly rows={4} className="border-line bg-raised w-full resize-none rounded-lg border p-2 font-mono text-[12px] break-all text-ink" aria-label="Command to pair a computer" value={`ypogeion pair '${pairing.address}'`} onFocus={(e) => e.currentTarget.select()} />
      </div>
    </div>
  );
}
