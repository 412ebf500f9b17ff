/** What happened and what is happening: runs with their logs, background work, who did what. */
import { Tabs } from "radix-ui";
import { type ReactNode, useState } from "react";
import { ask, type Run, type Schemas } from "../api/client";
import { keys, useDo, useEntries, useRecord, useRuns, useRunsOfDay, useWork } from "../api/hooks";
import { count, counted, size, until } from "../format";
import { Button, Page, State, table, Table, TextButton, When } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";

const tab = "border-0 bg-transparent px-1 pb-2 text-[16px] text-soft data-[state=active]:border-b-[3px] data-[state=active]:border-accent data-[state=active]:font-semibold data-[state=active]:text-ink";

export function Activity({ keeper }: { keeper: boolean }) {
  return (
    <Page title="Activity">
      <Tabs.Root defaultValue="runs" className="mt-4">
        <Tabs.List aria-label="Activity" className="border-line flex gap-7 overflow-x-auto border-b whitespace-nowrap max-sm:gap-4">
          <Tabs.Trigger value="runs" className={tab}>
            Backups
          </Tabs.Trigger>
          {keeper && (
            <>
              <Tabs.Trigger value="work" className={tab}>
                Background work
              </Tabs.Trigger>
              <Tabs.Trigger value="record" className={tab}>
                Who did what
              </Tabs.Trigger>
            </>
          )}
        </Tabs.List>
        <Tabs.Content value="runs">
          <Runs />
        </Tabs.Content>
        {keeper && (
          <>
            <Tabs.Content value="work">
              <BackgroundWork />
            </Tabs.Content>
            <Tabs.Content value="record">
              <Record />
            </Tabs.Content>
          </>
        )}
      </Tabs.Root>
    </Page>
  );
}

function runState(r: Run) {
  if (r.state === "running") return <State tone="busy">running</State>;
  if (r.state === "complete") return <State tone="well">complete</State>;
  if (r.state === "partly") return <State tone="look">{counted(r.counts.failed, "file")} failed</State>;
  if (r.state === "halted") return <State tone="quiet">{r.halted ?? "ended early"}</State>;
  return <State tone="look">broken off</State>;
}

function outcome(r: Run): string {
  const c = r.counts;
  const parts = [c.sent > 0 && `sent ${count(c.sent)} (${size(c.bytes)})`, c.skipped > 0 && `${count(c.skipped)} left out`].filter(Boolean);
  return parts.length === 0 ? `checked ${counted(c.checked, "file")}, nothing new` : `checked ${counted(c.checked, "file")}, ${parts.join(", ")}`;
}

const often = (n: number) => `nothing new, in ${counted(n, "backup")} of that day`;

function Runs() {
  const runs = useRuns();
  if (runs.isPending) return <Waiting what="the backups" />;
  if (runs.isError) return <Fault failure={runs.error} again={() => void runs.refetch()} />;
  if (runs.data.length === 0) return <Empty title="No backup yet">When a device sends for the first time, its backup appears here, file by file.</Empty>;
  return (
    <Table columns={[{ name: "Device" }, { name: "State" }, { name: "What it did", from: "sm" }, { name: "Started", number: true }, { name: "Log", number: true, unseen: true }]} className="mt-4">
      {runs.data.map((r) => (r.alike > 0 ? <Folded key={r.id} newest={r} /> : <OneRun key={r.id} run={r} />))}
    </Table>
  );
}

function OneRun({ run: r }: { run: Run }) {
  const [open, setOpen] = useState(false);
  return (
    <RunLine run={r} did={outcome(r)} below={open && <RunLog run={r} />}>
      <TextButton tone="accent" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? "Close" : "Log"}
      </TextButton>
    </RunLine>
  );
}

/** Backups of one device and day that found nothing new are one line, until somebody wants each of them. */
function Folded({ newest }: { newest: Run }) {
  const [each, setEach] = useState(false);
  if (each) return <RunsOfDay newest={newest} />;
  return (
    <RunLine run={newest} did={often(newest.alike + 1)}>
      <TextButton tone="accent" aria-expanded={false} onClick={() => setEach(true)}>
        Show all
      </TextButton>
    </RunLine>
  );
}

function RunsOfDay({ newest }: { newest: Run }) {
  const runs = useRunsOfDay(newest.device, newest.day);
  if (runs.isPending) return <RunLine run={newest} did={often(newest.alike + 1)} below={<Waiting what="the backups of that day" />} />;
  if (runs.isError) return <RunLine run={newest} did={often(newest.alike + 1)} below={<Fault failure={runs.error} again={() => void runs.refetch()} />} />;
  // Those that did something have a line of their own already.
  const nothing = runs.data.filter((r) => r.nothing_new);
  return (
    <>
      {nothing.map((r) => (
        <OneRun key={r.id} run={r} />
      ))}
    </>
  );
}

function RunLine({ run: r, did, below, children }: { run: Run; did: string; below?: ReactNode; children?: ReactNode }) {
  return (
    <tbody>
      <tr>
        <td className={table.cell}>
          <b className="font-semibold">{r.device_name}</b>
          <span className="numbers block text-[13.5px] text-soft sm:hidden">{did}</span>
        </td>
        <td className={`${table.cell} sm:whitespace-nowrap`}>{runState(r)}</td>
        <td className={`${table.cell} numbers max-sm:hidden`}>{did}</td>
        <td className={table.number}>
          <When at={r.began_at} />
        </td>
        <td className={table.number}>{children}</td>
      </tr>
      {below && (
        <tr>
          <td colSpan={5} className="pb-5">
            {below}
          </td>
        </tr>
      )}
    </tbody>
  );
}

function RunLog({ run }: { run: Run }) {
  const [filter, setFilter] = useState(run.counts.failed > 0 ? "failed" : "all");
  const entries = useEntries(run.id, filter);
  if (entries.isPending) return <Waiting what="the log" />;
  if (entries.isError) return <Fault failure={entries.error} />;
  const { entries: lines, total } = entries.data;
  return (
    <div className="bg-raised border-line rounded-[10px] border px-4 py-3">
      <div className="mb-2 flex flex-wrap gap-x-5 gap-y-1 text-[14.5px]" role="group" aria-label="Show">
        {(["all", "sent", "skipped", "failed"] as const).map((f) => (
          <button key={f} type="button" aria-pressed={filter === f} onClick={() => setFilter(f)} className={`rounded border-0 bg-transparent p-0 ${filter === f ? "font-semibold text-ink underline underline-offset-4" : "text-soft hover:text-ink"}`}>
            {{ all: "Everything", sent: "Sent", skipped: "Left out", failed: "Failed" }[f]}
          </button>
        ))}
        <span className="text-soft">{count(run.counts.present)} were here already</span>
        <a href={`/api/runs/${run.id}/entries.csv`} download className="ml-auto text-ink underline underline-offset-4">
          Export as CSV
        </a>
      </div>
      {lines.length === 0 ? (
        <p className="m-0 py-1 text-soft">There are none in this backup.</p>
      ) : (
        <ul className="m-0 max-h-[320px] list-none overflow-y-auto p-0 text-[14px]">
          {lines.map((e, i) => (
            <li key={i} className="flex gap-4 py-0.5">
              <span className="w-16 shrink-0 text-soft">{e.outcome === "skipped" ? "left out" : e.outcome}</span>
              <span className="min-w-0 grow break-words">
                {e.source}/{e.name}
                {e.reason && <span className="block text-ochre-text">{e.reason}</span>}
              </span>
              <span className="numbers shrink-0 text-soft">{size(e.size)}</span>
            </li>
          ))}
        </ul>
      )}
      {total > lines.length && <p className="mt-2 mb-0 text-[14px] text-soft">The first {count(lines.length)} of {count(total)}.</p>}
    </div>
  );
}

const WORK: { [kind: string]: string } = {
  preview: "Making previews",
  replicate: "Sending offsite",
  ledger: "Writing the stores’ lists of contents",
  prove: "Reading copies back from the stores",
  group: "Finding files of one picture",
  refile: "Filing by another plan",
  adopt: "Adopting an old disk",
  derive: "Making JPEG copies",
  reading: "Reading copies",
  listing: "Comparing lists",
  drill: "Drill",
  heal: "Replacing damaged copies",
  fetch: "Fetching files from the stores",
  hold: "Deleting and bringing back",
  release: "Removing deleted files from this server",
  remove: "Removing deleted files from the stores",
  reseal: "Sealing copies for the new key",
  town: "Finding the towns that pictures were taken near",
  words: "Reading the words in files",
  film: "Making films that browsers play",
};

function BackgroundWork() {
  const [most, setMost] = useState(100);
  const work = useWork(true, most);
  const retry = useDo(() => ask<Schemas["Retried"]>("/api/work/retry", "POST"), [keys.work, keys.overview]);
  if (work.isPending) return <Waiting what="the background work" />;
  if (work.isError) return <Fault failure={work.error} again={() => void work.refetch()} />;
  const { kinds, faults, faults_in_all: all } = work.data;
  if (kinds.length === 0) return <Empty title="Nothing to do">Previews are made, and copies are sent and checked. New work appears when something arrives.</Empty>;
  return (
    <>
      <Table columns={[{ name: "Work" }, { name: "Waiting", number: true }, { name: "Running", number: true }, { name: "Trying again", number: true, from: "sm" }, { name: "Failed", number: true }]} className="mt-4">
        <tbody>
          {kinds.map((k) => (
            <tr key={k.kind}>
              <td className={`${table.cell} font-semibold`}>{WORK[k.kind] ?? k.kind}</td>
              <td className={table.number}>{count(k.waiting)}</td>
              <td className={table.number}>{count(k.running)}</td>
              <td className={`${table.number} max-sm:hidden`}>{count(k.retrying)}</td>
              <td className={`${table.number} ${k.failed > 0 ? "font-semibold text-oxide" : ""}`}>{count(k.failed)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      {faults.length > 0 && (
        <section className="mt-8">
          <div className="flex items-end justify-between gap-4">
            <h2 className="m-0 text-[21px]">Problems</h2>
            <Button onClick={() => retry.mutate(undefined)} disabled={retry.isPending}>
              Try all again
            </Button>
          </div>
          {retry.isError && <Fault failure={retry.error} />}
          <ul className="m-0 mt-3 list-none p-0">
            {faults.map((f) => (
              <li key={f.id} className="border-line border-t py-2.5">
                <b className="font-semibold">{f.about || (WORK[f.kind] ?? f.kind)}</b>
                <span className="block text-soft">
                  {WORK[f.kind] ?? f.kind}, {counted(f.attempts, "attempt")}: {f.error}
                </span>
                {f.due ? <span className="text-[14px] text-soft">Next attempt {until(f.due)}.</span> : <State tone="trouble">failed</State>}
              </li>
            ))}
          </ul>
          {all > faults.length && (
            <p className="mt-3 mb-0 flex flex-wrap items-center gap-4 text-soft">
              {count(faults.length)} of {count(all)} are shown.
              {most < 10_000 && (
                <Button onClick={() => setMost(most === 100 ? 1000 : 10_000)} disabled={work.isFetching}>
                  Show more
                </Button>
              )}
            </p>
          )}
        </section>
      )}
    </>
  );
}

function Record() {
  const record = useRecord(true);
  if (record.isPending) return <Waiting what="the record" />;
  if (record.isError) return <Fault failure={record.error} again={() => void record.refetch()} />;
  return (
    <ul className="m-0 mt-4 list-none p-0 text-[15px]">
      {record.data.map((l, i) => (
        <li key={i} className="border-line flex justify-between gap-6 border-t py-2.5">
          <span>
            <b className="font-semibold">{l.who}</b> {l.what}
            {l.times > 1 && <span className="text-soft">, {count(l.times)} times on that day</span>}
          </span>
          <span className="shrink-0 text-soft">
            <When at={l.at} />
          </span>
        </li>
      ))}
    </ul>
  );
}
