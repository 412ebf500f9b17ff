/** One device, number against number: what it says it has, what of that is here, the list of the difference, and its clock. */
import { useState, type FormEvent } from "react";
import { ask, type Device } from "../api/client";
import { keys, useClocks, useCoverage, useDo } from "../api/hooks";
import { count, counted, size } from "../format";
import { Button, Dialog, Field, State, table, Table, TextButton, When } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";

export function CoverageDialog({ device, onClose }: { device: Device; onClose: () => void }) {
  const [limit, setLimit] = useState(500);
  const coverage = useCoverage(device.id, limit);
  return (
    <Dialog open onOpenChange={(o) => !o && onClose()} title={device.name} wide>
      {coverage.isPending ? (
        <Waiting what="the device" />
      ) : coverage.isError ? (
        <Fault failure={coverage.error} />
      ) : (
        <>
          <Summary device={device} />
          {coverage.data.sources.length > 0 && (
            <div className="mt-4 overflow-x-auto">
              <Table columns={[{ name: "Source" }, { name: "On the device", number: true }, { name: "Of these here", number: true }, { name: "Refused", number: true }, { name: "Left out", number: true }]}>
                <tbody>
                  {coverage.data.sources.map((s) => (
                    <tr key={s.name}>
                      <td className={table.cell}>
                        {s.name}
                        <span className="block text-[13.5px] text-soft">
                          {s.rule}
                          {s.selection_only && "; the phone lets it see only a selection"}
                          {s.cleared > 0 && `; ${counted(s.cleared, "file")} removed on the device to make room`}
                        </span>
                      </td>
                      <td className={table.number}>{count(s.files)}</td>
                      <td className={table.number}>{count(s.home)}</td>
                      <td className={table.number}>{count(s.refused)}</td>
                      <td className={table.number}>{count(s.left_out)}</td>
                    </tr>
                  ))}
                </tbody>
              </Table>
            </div>
          )}
          {coverage.data.missing.length > 0 && (
            <section className="mt-5">
              <h3 className="m-0 mb-1 text-[17px]">On the device, but not here</h3>
              <ul className="m-0 max-h-56 list-none overflow-y-auto p-0 text-[14.5px]">
                {coverage.data.missing.map((m) => (
                  <li key={`${m.source}/${m.name}`} className="border-line flex items-baseline justify-between gap-4 border-t py-1.5">
                    <span className="min-w-0 break-words">
                      {m.name}
                      {m.refused && <span className="block text-[13.5px] text-soft">{m.refused}</span>}
                    </span>
                    <span className="numbers shrink-0 text-soft">{size(m.size)}</span>
                  </li>
                ))}
              </ul>
              {coverage.data.more && (
                <p className="mt-2 mb-0 text-[14.5px] text-soft">
                  These are the first {count(coverage.data.missing.length)}; there are more.{" "}
                  {limit < 20_000 && (
                    <TextButton tone="accent" disabled={coverage.isFetching} onClick={() => setLimit(Math.min(limit * 4, 20_000))}>
                      Show more
                    </TextButton>
                  )}
                </p>
              )}
            </section>
          )}
          <Clock device={device} />
        </>
      )}
    </Dialog>
  );
}

function Summary({ device: d }: { device: Device }) {
  if (d.has === 0) return <p className="mt-0 text-soft">The device has not reported yet what is on it.</p>;
  return (
    <p className="mt-0 mb-0 text-[17px]">
      {d.home >= d.has ? <State tone="well">All {count(d.has)} are here.</State> : `${count(d.home)} of ${count(d.has)} are here${d.to_come > 0 ? `, ${count(d.to_come)} ${d.to_come === 1 ? "is" : "are"} still to come` : ""}.`}
      {d.refused > 0 && (
        <span className="mt-1 block">
          <State tone="look">{`${count(d.refused)} ${d.refused === 1 ? "was" : "were"} refused: ${d.refused_why ?? "the reasons are below"}`}</State>
        </span>
      )}
      {d.unread > 0 && (
        <span className="mt-1 block">
          <State tone="look">{counted(d.unread, "file")} on it could not be read in its last backup; see Activity for the reasons.</State>
        </span>
      )}
      {d.waiting_for && <span className="block text-[15px] text-soft">It is not sending now: {d.waiting_for}.</span>}
    </p>
  );
}

function Clock({ device }: { device: Device }) {
  const clocks = useClocks(device.id);
  const stale = [keys.clocks(device.id), ["library"]] as const;
  const undo = useDo((id: string) => ask(`/api/devices/${device.id}/clock/${id}/undo`, "POST"), stale);
  const [open, setOpen] = useState(false);
  return (
    <section className="border-line mt-6 border-t pt-4">
      <h3 className="m-0 text-[17px]">Its clock</h3>
      {clocks.data?.map((c) => (
        <div key={c.id} className="mt-2 flex flex-wrap items-baseline justify-between gap-3 text-[14.5px]">
          <span>
            {counted(c.originals, "file")} moved {spoken(c.seconds)}, {c.made_by}, <When at={c.made_at} />
          </span>
          {c.undone_at ? <State tone="quiet">undone</State> : <Button onClick={() => undo.mutate(c.id)}>Undo</Button>}
        </div>
      ))}
      {undo.isError && <Fault failure={undo.error} />}
      {open ? (
        <Correct device={device} onDone={() => setOpen(false)} />
      ) : (
        <p className="mt-2 mb-0 text-[14.5px] text-soft">
          If its clock was wrong for a while, you can correct the times of those pictures.{" "}
          <TextButton tone="accent" onClick={() => setOpen(true)}>
            Correct times …
          </TextButton>
        </p>
      )}
    </section>
  );
}

function spoken(seconds: number): string {
  const length = Math.abs(seconds);
  const way = seconds > 0 ? "later" : "earlier";
  if (length % 86_400 === 0) return `${counted(length / 86_400, "day")} ${way}`;
  if (length % 3600 === 0) return `${counted(length / 3600, "hour")} ${way}`;
  return `${counted(Math.round(length / 60), "minute")} ${way}`;
}

function Correct({ device, onDone }: { device: Device; onDone: () => void }) {
  const [form, setForm] = useState({ from: "", to: "", showed: "", was: "" });
  const seconds = Math.round((Date.parse(`${form.was}Z`) - Date.parse(`${form.showed}Z`)) / 1000);
  const correct = useDo(() => ask(`/api/devices/${device.id}/clock`, "POST", { from: `${form.from}:00`, to: `${form.to}:59`, seconds }), [keys.clocks(device.id), ["library"]]);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    correct.mutate(undefined, { onSuccess: onDone });
  };
  const field = (label: string, key: keyof typeof form) => (
    <Field label={label} type="datetime-local" required value={form[key]} onChange={(e) => setForm({ ...form, [key]: e.target.value })} />
  );
  return (
    <form onSubmit={submit} className="mt-3 grid gap-3 sm:grid-cols-2">
      {field("Time of the first picture, as shown now", "from")}
      {field("Time of the last picture, as shown now", "to")}
      {field("The device’s clock showed", "showed")}
      {field("The right time was", "was")}
      {correct.isError && (
        <div className="sm:col-span-2">
          <Fault failure={correct.error} />
        </div>
      )}
      <div className="flex gap-2 sm:col-span-2">
        <Button look="strong" type="submit" disabled={correct.isPending || !seconds}>
          {seconds ? `Move them ${spoken(seconds)}` : "Correct"}
        </Button>
        <Button onClick={onDone}>Cancel</Button>
      </div>
    </form>
  );
}
