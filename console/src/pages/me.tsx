/** What one has here, one's own password, where one is signed in, and what one shows to people outside. */
import { useState, type FormEvent } from "react";
import { ask, type Me, type Schemas } from "../api/client";
import { Link } from "react-router";
import { keys, useDevices, useDo, useOwnLinks, usePeople, useSessions } from "../api/hooks";
import { count, counted, size } from "../format";
import { Button, Field, Page, State, table, Table, When } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";
import { deviceState } from "./devices";
import { Lasts, Opened } from "./links";

export function Account({ me }: { me: Me }) {
  return (
    <Page title="Your account" lead={`Files, devices, password, sessions and links of ${me.name}`}>
      <Own me={me} />
      <Password me={me} />
      <Sessions />
      <OwnLinks guest={me.role === "guest"} />
    </Page>
  );
}

/** How much one has here, how much of that is allowed, and what is still on one's devices alone. */
function Own({ me }: { me: Me }) {
  const people = usePeople(true);
  const devices = useDevices();
  const fault = people.error ?? devices.error;
  if (fault) return <Fault failure={fault} again={() => void Promise.all([people.refetch(), devices.refetch()])} />;
  if (!people.data || !devices.data) return <Waiting what="what is yours" />;
  const own = people.data.find((p) => p.id === me.id);
  if (!own) return null;
  const sends = devices.data.filter((d) => d.person === me.id && !d.revoked_at);
  const alone = sends.reduce((n, d) => n + d.to_come + d.refused, 0);
  const link = "text-ink underline decoration-line underline-offset-4 hover:decoration-ink";
  return (
    <section className="mt-8 max-w-[640px]">
      <h2 className="m-0 text-[21px]">What is yours here</h2>
      <p className="numbers mt-1 mb-0">
        {counted(own.originals, "file")}, {size(own.bytes)}
        {own.quota ? ` of ${size(own.quota)} that you may fill` : ""}. Deleted files that can be brought back under{" "}
        <Link to="/restore" className={link}>
          Restore
        </Link>{" "}
        count, too.
      </p>
      {own.quota != null && own.quota > 0 && (
        <div className="mt-2.5 h-2 overflow-hidden rounded-full bg-(--line)" role="img" aria-label={`${Math.min(100, Math.round((100 * own.bytes) / own.quota))} % of what you may fill`}>
          <div className="h-full" style={{ width: `${Math.min(100, (100 * own.bytes) / own.quota)}%`, background: own.quota_state === "full" ? "var(--oxide)" : own.quota_state === "near" ? "var(--ochre)" : "var(--loam)" }} />
        </div>
      )}
      {own.quota_state !== "well" && (
        <p className="mt-2 mb-0">
          <State tone={own.quota_state === "full" ? "trouble" : "look"}>{own.quota_state === "full" ? "Full: new pictures are refused. The keeper can allow more." : own.soft_quota ? `More than the ${size(own.soft_quota)} that were agreed. Nothing is refused.` : "Nearly full. Ask the keeper for more before pictures are refused."}</State>
        </p>
      )}
      {sends.length > 0 && (
        <>
          <p className="numbers mt-4 mb-2">{alone === 0 ? "Your devices have sent all that they told of." : `${counted(alone, "file")} ${alone === 1 ? "is" : "are"} still on your devices alone, as far as they told.`}</p>
          <Table columns={[{ name: "Device" }, { name: "State" }, { name: "Here", number: true }]}>
            <tbody>
              {sends.map((d) => (
                <tr key={d.id}>
                  <td className={`${table.cell} font-semibold`}>
                    <Link to={`/devices#${d.id}`} className={link}>
                      {d.name}
                    </Link>
                  </td>
                  <td className={table.cell}>{deviceState(d)}</td>
                  <td className={table.number}>
                    {count(d.home)} of {count(d.has)}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
    </section>
  );
}

function Password({ me }: { me: Me }) {
  const empty = { old: "", fresh: "", again: "" };
  const [form, setForm] = useState(empty);
  const change = useDo(() => ask("/api/session/password", "POST", { old: form.old, new: form.fresh }), [keys.sessions]);
  const differ = form.again !== "" && form.fresh !== form.again;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (!differ) change.mutate(undefined, { onSuccess: () => setForm(empty) });
  };
  const field = (key: keyof typeof empty) => ({ value: form[key], onChange: (e: { target: { value: string } }) => setForm({ ...form, [key]: e.target.value }) });
  return (
    <section className="mt-8 max-w-[430px]">
      <h2 className="m-0 mb-3 text-[21px]">Change your password</h2>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <input type="text" name="username" autoComplete="username" value={me.name} readOnly hidden />
        <Field label="Current password" type="password" autoComplete="current-password" required {...field("old")} />
        <Field label="New password" type="password" autoComplete="new-password" minLength={10} required hint="At least ten characters." {...field("fresh")} />
        <Field label="Repeat the new password" type="password" autoComplete="new-password" required aria-invalid={differ} {...field("again")} />
        {differ && (
          <p role="alert" className="m-0 text-[15px] font-semibold text-oxide">
            The two passwords are not the same.
          </p>
        )}
        {change.isError && <Fault failure={change.error} />}
        {change.isSuccess && (
          <p role="status" className="m-0">
            <State tone="well">Your password is changed. All other sessions have ended.</State>
          </p>
        )}
        <Button look="strong" type="submit" disabled={change.isPending || differ} className="self-start">
          Change password
        </Button>
      </form>
      <p className="mt-3 mb-0 text-[14.5px] text-soft">Devices have their own keys and are not affected. If a device is lost, revoke it under Devices.</p>
    </section>
  );
}

function Sessions() {
  const sessions = useSessions();
  const end = useDo((id: string) => ask(`/api/sessions/${id}`, "DELETE"), [keys.sessions]);
  const endAll = useDo(() => ask("/api/sessions", "DELETE"), [keys.sessions]);
  const fault = end.error ?? endAll.error;
  if (sessions.isError) return <Fault failure={sessions.error} again={() => void sessions.refetch()} />;
  if (!sessions.data) return <Waiting what="your sessions" />;
  const others = sessions.data.filter((s) => !s.this).length;
  return (
    <section className="mt-10 overflow-x-auto">
      <div className="mb-3 flex flex-wrap items-end justify-between gap-3">
        <div>
          <h2 className="m-0 text-[21px]">Where you are signed in</h2>
          <p className="mt-1 mb-0 text-[15px] text-soft">A session ends by itself after 30 days. If you do not know one of these, end it and change your password.</p>
        </div>
        {others > 0 && (
          <Button look="danger" disabled={endAll.isPending} onClick={() => endAll.mutate(undefined)}>
            End all other sessions
          </Button>
        )}
      </div>
      {fault && <Fault failure={fault} />}
      <Table columns={[{ name: "Browser" }, { name: "Last used" }, { name: "Signed in", from: "sm" }, { name: "End it", unseen: true }]}>
        <tbody>
          {sessions.data.map((s: Schemas["SignedIn"]) => (
            <tr key={s.id}>
              <td className={`${table.cell} font-semibold`}>{s.browser}</td>
              <td className={table.cell}>{s.seen_at ? <When at={s.seen_at} /> : "–"}</td>
              <td className={`${table.cell} max-sm:hidden`}>
                <When at={s.since} />
              </td>
              <td className={`${table.cell} text-right`}>
                {s.this ? (
                  <State tone="well">this one</State>
                ) : (
                  <Button disabled={end.isPending} onClick={() => end.mutate(s.id)}>
                    End
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}

/** What people outside can see, whichever album it is in. */
function OwnLinks({ guest }: { guest: boolean }) {
  const links = useOwnLinks();
  const withdraw = useDo((id: string) => ask(`/api/links/${id}`, "DELETE"), [keys.albums]);
  if (links.isError) return <Fault failure={links.error} again={() => void links.refetch()} />;
  if (!links.data) return <Waiting what="your links" />;
  // They make none; those of before stay theirs.
  if (guest && links.data.length === 0) return null;
  return (
    <section className="mt-10 overflow-x-auto">
      <h2 className="m-0 text-[21px]">Links that open now</h2>
      <p className="mt-1 mb-3 text-[15px] text-soft">
        {links.data.length === 0
          ? "Nobody outside sees anything of yours. A link is made on an album’s page, or of pictures that are chosen."
          : "Whoever has one of these sees your pictures in its album. One that is withdrawn opens nothing from that moment on."}
      </p>
      {withdraw.isError && <Fault failure={withdraw.error} />}
      {links.data.length > 0 && (
        <Table columns={[{ name: "Album" }, { name: "Opens" }, { name: "Opened", from: "sm" }, { name: "Withdraw it", unseen: true }]}>
          <tbody>
            {links.data.map(({ album, album_name, link }) => (
              <tr key={link.id}>
                <td className={`${table.cell} font-semibold break-words`}>
                  <Link to={`/albums/${album}`} className="text-ink underline decoration-line underline-offset-4 hover:decoration-ink">
                    {album_name}
                  </Link>
                </td>
                <td className={table.cell}>
                  <Lasts link={link} />
                </td>
                <td className={`${table.cell} max-sm:hidden`}>
                  <Opened link={link} />
                </td>
                <td className={`${table.cell} text-right`}>
                  <Button disabled={withdraw.isPending} aria-label={`Withdraw the link to ${album_name}`} onClick={() => withdraw.mutate(link.id)}>
                    Withdraw
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}
