/** Are the copies still good? What was read again, at home and in each store, what it says, and a check now. */
import { ask, type Schemas } from "../api/client";
import { keys, useChecks, useDo } from "../api/hooks";
import { count, counted, size, until } from "../format";
import { Button, State, When } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";

type Check = Schemas["Check"];

/** What each kind of check is, in a few words, and what the button says. */
const KINDS: { [kind: string]: { name: string; what: string; now: string } } = {
  reading: { name: "Reading", what: "reads every byte and compares it with what was received", now: "Read all now" },
  listing: { name: "List", what: "compares what is there with what should be there", now: "Compare now" },
  drill: { name: "Drill", what: "restores a random sample, as if this house were gone", now: "Hold a drill now" },
};

export function ChecksView() {
  const checks = useChecks();
  if (checks.isPending) return <Waiting what="the checks" />;
  if (checks.isError) return <Fault failure={checks.error} again={() => void checks.refetch()} />;
  const { checks: all, cover_days, healed_home, healed_away } = checks.data;
  const places = [...new Set(all.map((c) => c.place))];
  const healed = healed_home + healed_away;
  return (
    <section className="border-line mt-10 border-t pt-5" aria-labelledby="checks">
      <h2 id="checks" className="m-0 text-[23px]">
        Are the copies still good?
      </h2>
      <p className="mt-0.5 mb-2 max-w-[70ch] text-soft">
        A part of the copies is read each day, so that each is read once in {counted(cover_days, "day")}. A damaged or missing copy is replaced from a good one.
        {healed > 0 && ` In the last 30 days, ${healedWords(healed_home, healed_away)}.`}
      </p>
      {places.map((place) => (
        <div key={place} className="mt-5">
          <h3 className="m-0 text-[17px] font-semibold">{place}</h3>
          <ul className="m-0 list-none p-0">
            {all
              .filter((c) => c.place === place)
              .map((c) => (
                <Line key={c.kind} check={c} />
              ))}
          </ul>
        </div>
      ))}
    </section>
  );
}

function healedWords(home: number, away: number): string {
  const were = (n: number, where: string) => `${n === 1 ? "1 copy was" : `${count(n)} copies were`} replaced ${where}`;
  if (away === 0) return were(home, "at home");
  if (home === 0) return were(away, "offsite");
  return `${were(home, "at home")} and ${count(away)} offsite`;
}

function Line({ check: c }: { check: Check }) {
  const want = useDo(() => ask("/api/checks", "POST", { store: c.store, kind: c.kind }), [keys.checks, keys.work]);
  const kind = KINDS[c.kind] ?? { name: c.kind, what: "", now: "Check now" };
  return (
    <li className="border-line grid gap-x-6 gap-y-1 border-b py-3 last:border-b-0 sm:grid-cols-[200px_1fr_auto] sm:items-start">
      <div>
        <b className="block font-semibold">{kind.name}</b>
        <span className="text-[14px] text-soft">{kind.what}</span>
      </div>
      <div className="min-w-0">
        {want.isError && <Fault failure={want.error} />}
        <Result check={c} />
      </div>
      <div className="max-sm:mt-1">
        <Button onClick={() => want.mutate(undefined)} disabled={want.isPending || !!c.now} aria-label={`${kind.now}: ${c.place}`}>
          {!c.now ? kind.now : c.waits_for ? "Waiting" : "Running …"}
        </Button>
      </div>
    </li>
  );
}

/** Bad copies that were found and replaced are no news any more. */
function Verdict({ failed, found, now }: { failed: boolean; found: number; now: number }) {
  if (failed) return <State tone="trouble">could not be done</State>;
  if (found === 0) return <State tone="well">good</State>;
  return now === 0 ? <State tone="well">good now</State> : <State tone="look">damaged or missing copies</State>;
}

function Result({ check: { kind, now, last, next_at, bad_now, waits_for } }: { check: Check }) {
  const bad = (last?.wrong ?? 0) + (last?.missing ?? 0);
  return (
    <>
      {now && (
        <p className="m-0" role="status">
          {waits_for ? <State tone="quiet">waiting: {waits_for}</State> : <State tone="busy">running</State>} {now.checked > 0 && progress(kind, now)}
        </p>
      )}
      {last ? (
        <p className="m-0">
          <Verdict failed={last.failed} found={bad} now={bad_now} /> {!last.failed && bad > 0 && bad_now === 0 && `${bad === 1 ? "1 copy was" : `${count(bad)} copies were`} damaged or missing; none is now. `}
          {last.said}
        </p>
      ) : (
        !now && <p className="m-0">Not done yet.</p>
      )}
      <p className="m-0 text-[14px] text-soft">
        {last?.ended_at && (
          <>
            <When at={last.ended_at} />
            {next_at && "; "}
          </>
        )}
        {next_at && `next ${until(next_at)}`}
      </p>
    </>
  );
}

function progress(kind: string, now: Schemas["CheckResult"]): string {
  const of = kind === "reading" && !now.whole ? "" : ` of ${count(now.population)}`;
  return `${count(now.checked)}${of} so far, ${size(now.bytes)}`;
}
