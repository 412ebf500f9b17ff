/** The house rules: where originals are filed, and when a device may let go of its copies. */
import { RadioGroup } from "radix-ui";
import { useEffect, useState, type ReactNode } from "react";
import { ask, type Schemas } from "../api/client";
import { keys, useDo, useHousehold, usePlace, useRefilings } from "../api/hooks";
import { count, counted, size } from "../format";
import { Check, Choice, Select } from "../ui/choose";
import { Button, Dialog, Field, Page, State, When } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";

type Household = Schemas["Household"];
type Preview = Schemas["PlanPreview"];
type Refiling = Schemas["Refiling"];

export function Settings() {
  const house = useHousehold();
  return (
    <Page title="House rules" lead="These rules count for everybody’s pictures. Every change is recorded under Activity.">
      {house.isPending ? (
        <Waiting what="the rules" />
      ) : house.isError ? (
        <Fault failure={house.error} again={() => void house.refetch()} />
      ) : (
        <>
          <Filing house={house.data} />
          <LettingGo house={house.data} />
          <Deleting house={house.data} />
          <OldReaders house={house.data} />
          <LibraryPlace />
        </>
      )}
    </Page>
  );
}

function Section({ title, lead, children }: { title: string; lead: string; children: ReactNode }) {
  return (
    <section className="border-line mt-7 border-t pt-5">
      <h2 className="m-0 text-[21px]">{title}</h2>
      <p className="mt-1 mb-4 max-w-prose text-soft">{lead}</p>
      {children}
    </section>
  );
}

const OWN = "own";

function Filing({ house }: { house: Household }) {
  const [choice, setChoice] = useState(house.filing_plan ?? OWN);
  const [own, setOwn] = useState(house.filing_plan ? "%Y/%m %B/{name}" : house.filing);
  const [asking, setAsking] = useState(false);
  const plan = choice === OWN ? own : choice;
  const chosen = choice === OWN ? own : house.plans.find((p) => p.word === choice)?.pattern;
  const changed = chosen !== house.filing;
  const preview = usePreview(plan);
  const apply = useDo(() => ask<Refiling>("/api/filing", "POST", { plan }), [keys.household, keys.refilings]);
  return (
    <Section title="Folders and file names" lead="How pictures are filed on the disk: in plain folders that any program can open. Each person’s own folder always comes first.">
      <div className="grid gap-x-10 gap-y-6 md:grid-cols-[minmax(0,340px)_minmax(0,1fr)]">
        <div>
          <RadioGroup.Root value={choice} onValueChange={setChoice} aria-label="Filing plan">
            {house.plans.map((p) => (
              <Choice key={p.word} value={p.word} title={p.title}>
                {example(p.pattern)}
              </Choice>
            ))}
            <Choice value={OWN} title="Your own pattern">
              With codes for the time, and parts in braces
            </Choice>
          </RadioGroup.Root>
          {choice === OWN && (
            <div className="mt-2 pl-[30px]">
              <Field label="Pattern" value={own} spellCheck={false} maxLength={200} onChange={(e) => setOwn(e.target.value)} />
              <p className="mt-2 mb-0 text-[13.5px] text-soft">
                %Y year, %m month (04), %B month (April), %d day, %H hour, %M minute, %V week. Parts: {"{name} {stem} {extension} {device} {album} {camera} {kind}"}.
              </p>
            </div>
          )}
        </div>
        <div className="min-w-0">
          <PreviewTable preview={preview.data} failure={preview.failure} />
          {changed && preview.data && (
            <Button look="strong" className="mt-4" disabled={apply.isPending} onClick={() => setAsking(true)}>
              Use this plan …
            </Button>
          )}
          {apply.isError && <Fault failure={apply.error} />}
        </div>
      </div>
      <Refilings />
      {asking && preview.data && (
        <Dialog open onOpenChange={(o) => !o && setAsking(false)} title="Use this filing plan?">
          <p className="mt-0">
            {preview.data.moves === 0 ? "Nothing has to be moved. What arrives from now on is filed like this." : `${counted(preview.data.moves, "file")} of ${count(preview.data.total)} get another folder or name. The files themselves are not changed.`}
          </p>
          <p>This runs in the background. It can be paused, and it can be undone: every file then goes back to where it was.</p>
          <div className="flex gap-2">
            <Button look="strong" onClick={() => apply.mutate(undefined, { onSettled: () => setAsking(false) })} disabled={apply.isPending}>
              {preview.data.moves === 0 ? "Use this plan" : `Move ${counted(preview.data.moves, "file")}`}
            </Button>
            <Button onClick={() => setAsking(false)}>Cancel</Button>
          </div>
        </Dialog>
      )}
    </Section>
  );
}

function example(pattern: string): string {
  const parts: Record<string, string> = { "%Y": "2026", "%m": "04", "%d": "12", "{name}": "IMG_2214.HEIC", "{device}": "Juno’s phone" };
  return `juno/${Object.entries(parts).reduce((text, [code, value]) => text.replaceAll(code, value), pattern)}`.replaceAll("/", " / ");
}

/** Asks the server what a plan would do, a moment after the last key. */
function usePreview(plan: string) {
  const [state, setState] = useState<{ data?: Preview; failure?: string }>({});
  useEffect(() => {
    let over = false;
    const timer = setTimeout(() => {
      ask<Preview>("/api/filing/preview", "POST", { plan }).then(
        (data) => !over && setState({ data }),
        (e: { detail: string }) => !over && setState({ failure: e.detail }),
      );
    }, 250);
    return () => {
      over = true;
      clearTimeout(timer);
    };
  }, [plan]);
  return state;
}

function PreviewTable({ preview, failure }: { preview?: Preview; failure?: string }) {
  if (failure) return <p className="border-ochre m-0 border-l-4 py-1 pl-3">{failure}</p>;
  if (!preview) return <Waiting what="what this would do" />;
  if (preview.total === 0) return <p className="m-0 text-soft">There is nothing in the library yet. What arrives is filed like this.</p>;
  if (preview.moves === 0) return <State tone="well">All {count(preview.total)} files are where this plan puts them.</State>;
  return (
    <div>
      <p className="mt-0 mb-2 font-semibold">
        {preview.moves === preview.total ? `All ${count(preview.total)} files` : `${counted(preview.moves, "file")} of ${count(preview.total)}`} would move. For example:
      </p>
      <ul className="m-0 list-none space-y-2 p-0 text-[14px]">
        {preview.examples.slice(0, 6).map((e) => (
          <li key={e.from} className="border-line border-t pt-2">
            <span className="block break-words text-soft">{e.from}</span>
            <span className="block break-words">
              <span aria-hidden>→ </span>
              <span className="sr-only">would go to </span>
              {e.to}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Refilings() {
  const refilings = useRefilings();
  const order = useDo((v: { id: string; order: string }) => ask(`/api/filing/${v.id}`, "PATCH", { order: v.order }), [keys.refilings, keys.household]);
  if (!refilings.data || refilings.data.length === 0) return null;
  return (
    <div className="mt-7">
      <h3 className="m-0 mb-1 text-[17px]">Moves so far</h3>
      {order.isError && <Fault failure={order.error} />}
      <ul className="m-0 list-none p-0">
        {refilings.data.slice(0, 5).map((r) => {
          const open = r.state === "running" || r.state === "paused";
          const give = (word: string) => order.mutate({ id: r.id, order: word });
          return (
            <li key={r.id} className="border-line border-t py-3">
              <div className="flex flex-wrap items-baseline justify-between gap-x-5 gap-y-2">
                <span className="min-w-0">
                  <code className="text-[14px] break-words">{r.plan}</code>
                  <span className="text-[14px] text-soft">
                    {r.undoes && " (undoing a move)"}, {r.made_by}, <When at={r.began_at} />
                  </span>
                </span>
                <span className="flex items-baseline gap-2">
                  {refilingState(r)}
                  {r.state === "running" && <Button onClick={() => give("pause")}>Pause</Button>}
                  {r.state === "paused" && <Button onClick={() => give("resume")}>Resume</Button>}
                  {open && <Button onClick={() => give("stop")}>Stop</Button>}
                  {!open && r.moved > 0 && r === refilings.data[0] && <Button onClick={() => give("undo")}>Undo</Button>}
                </span>
              </div>
              {open && (
                <div className="bg-line mt-2 h-2 overflow-hidden rounded" role="progressbar" aria-label="Looked at" aria-valuemin={0} aria-valuemax={r.total} aria-valuenow={r.looked}>
                  <div className="bg-accent h-full" style={{ width: `${(100 * r.looked) / Math.max(r.total, 1)}%` }} />
                </div>
              )}
            </li>
          );
        })}
      </ul>
    </div>
  );
}

function refilingState(r: Refiling) {
  if (r.state === "running") return <State tone="busy">{`${count(r.looked)} of ${count(r.total)}`}</State>;
  if (r.state === "paused") return <State tone="look">{`paused at ${count(r.looked)} of ${count(r.total)}`}</State>;
  if (r.failed > 0) return <State tone="look">{`${counted(r.failed, "file")} could not be moved`}</State>;
  if (r.state === "stopped") return <State tone="quiet">{`stopped; ${count(r.moved)} moved`}</State>;
  return <State tone="well">{`${count(r.moved)} moved`}</State>;
}

function LettingGo({ house }: { house: Household }) {
  const change = useDo((clear_at: string) => ask("/api/household", "PATCH", { clear_at }), [keys.household]);
  return (
    <Section title="When may a phone delete its own copies?" lead="The server first reads its own copy completely. It must also be:">
      <RadioGroup.Root value={house.clear_at} onValueChange={(v) => change.mutate(v)} aria-label="Where a copy must be">
        <Choice value="home" title="At home">
          Nothing more. If this house burns down before the picture is offsite, it is lost.
        </Choice>
        <Choice value="offsite" title="Offsite">
          A store has confirmed a copy.
        </Choice>
        <Choice value="proven" title="Proven">
          That copy was recently read back and is right. This is the safest.
        </Choice>
      </RadioGroup.Root>
      {change.isError && <Fault failure={change.error} />}
    </Section>
  );
}

const WAITS = [30, 60, 90, 180, 365, 0];
const LINGERS = [0, 7, 30, 60, 90, 180, 365];
const SAFETY_STOPS = [1, 2, 5, 10, 25, 50, 100];

/** The choices, and the one that was made in another way, if it is none of them. */
const including = (choices: number[], now: number) => (choices.includes(now) ? choices : [...choices, now]);

function Deleting({ house }: { house: Household }) {
  const change = useDo((rule: Partial<Household>) => ask("/api/household", "PATCH", rule), [keys.household, keys.holding]);
  const days = (n: number) => (n === 0 ? "for ever" : counted(n, "day"));
  return (
    <Section title="Deleted pictures" lead="Nothing is removed at once. Under Restore, deleted pictures can be brought back, first from this server, then for some more time from a store.">
      <div className="grid max-w-[640px] gap-x-8 gap-y-3 sm:grid-cols-[1fr_auto] sm:items-center">
        <Pick label="Kept on this server" hint="This counts for what is deleted from now on." value={house.home_days} choices={including(WAITS, house.home_days)} word={days} onPick={(home_days) => change.mutate({ home_days })} />
        <Pick
          label="Then kept in the stores"
          hint="A store that does not let this server delete keeps them longer."
          value={house.offsite_days}
          choices={including(LINGERS, house.offsite_days)}
          word={(n) => (n === 0 ? "not kept" : counted(n, "day"))}
          onPick={(offsite_days) => change.mutate({ offsite_days })}
        />
        <Pick
          label="Safety stop"
          hint="If more than this would be removed within one day, nothing is removed until you confirm it."
          value={house.safety_stop_percent}
          choices={including(SAFETY_STOPS, house.safety_stop_percent)}
          word={(n) => (n === 100 ? "never" : `above ${n} % of the library`)}
          onPick={(safety_stop_percent) => change.mutate({ safety_stop_percent })}
        />
      </div>
      {change.isError && <Fault failure={change.error} />}
    </Section>
  );
}

function Pick({ label, hint, value, choices, word, onPick }: { label: string; hint: string; value: number; choices: number[]; word: (n: number) => string; onPick: (n: number) => void }) {
  return (
    <div className="contents">
      <span>
        {label}
        <span className="block text-[14.5px] text-soft">{hint}</span>
      </span>
      <Select label={label} value={String(value)} choices={choices.map((n) => [String(n), word(n)] as const)} onChange={(n) => onPick(Number(n))} className="max-sm:mb-2" />
    </div>
  );
}

function OldReaders({ house }: { house: Household }) {
  const change = useDo((derive_jpeg: boolean) => ask("/api/household", "PATCH", { derive_jpeg }), [keys.household]);
  return (
    <Section title="For screens that cannot show HEIC" lead="Some televisions and picture frames show only JPEG. The original file is not changed, and only the original is sent offsite.">
      <Check checked={house.derive_jpeg} disabled={change.isPending} onChange={(on) => change.mutate(on)} title="Make a JPEG copy of each HEIC picture">
        “IMG_2214 (from HEIC).jpg”. It needs about as much room again. When you turn this off, the JPEGs that exist stay.
      </Check>
      {change.isError && <Fault failure={change.error} />}
    </Section>
  );
}

function LibraryPlace() {
  const place = usePlace();
  return (
    <Section title="Where the library lives" lead="Tested just now, by writing and reading a small file.">
      {place.isPending ? (
        <Waiting what="the disk" />
      ) : place.isError ? (
        <Fault failure={place.error} again={() => void place.refetch()} />
      ) : (
        <>
          <p className="m-0">
            <code className="text-[14.5px] break-words">{place.data.folder}</code>, {size(place.data.free)} free of {size(place.data.total)}; {size(place.data.reserve)} of these are never used.
          </p>
          {place.data.warnings.length === 0 ? (
            <p className="mt-2 mb-0">
              <State tone="well">No problems found.</State>
            </p>
          ) : (
            <ul className="m-0 mt-3 max-w-prose list-none space-y-2 p-0">
              {place.data.warnings.map((w) => (
                <li key={w.sentence} className={`border-l-4 py-0.5 pl-3 ${w.grave ? "border-ochre" : "border-line text-soft"}`}>
                  {w.sentence.charAt(0).toUpperCase() + w.sentence.slice(1)}.
                </li>
              ))}
            </ul>
          )}
        </>
      )}
    </Section>
  );
}
