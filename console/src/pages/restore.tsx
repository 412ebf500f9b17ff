/** Getting things back: what was deleted, and what to do on the day the house is gone. */
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { ask, type Me, type Schemas } from "../api/client";
import { keys, useDo, useHolding } from "../api/hooks";
import { count, counted, size, until } from "../format";
import { Tick } from "../ui/choose";
import { Button, Page, State, When } from "../ui/parts";
import { Empty, Fault, Waiting } from "../ui/states";
import { Thumb } from "../ui/thumb";
import { Confirm } from "../ui/confirm";

type Held = Schemas["HeldOriginal"];

export function Restore({ me }: { me: Me }) {
  return (
    <Page title="Restore" lead="Bring deleted pictures back, as long as they are kept. To download a single picture, open it in the Library.">
      <Deleted keeper={me.role === "keeper"} />
      {me.role === "keeper" && <HouseGone />}
    </Page>
  );
}

function Deleted({ keeper }: { keeper: boolean }) {
  const holding = useHolding();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [ending, setEnding] = useState(false);
  const stale = [keys.holding, keys.months, keys.overview];
  const back = useDo((originals: string[]) => ask<Schemas["Changed"]>("/api/holding/back", "POST", { originals }), stale);
  const end = useDo((originals: string[]) => ask<Schemas["Changed"]>("/api/holding/end", "POST", { originals }), stale);
  if (holding.isPending) return <Waiting what="what was deleted" />;
  if (holding.isError) return <Fault failure={holding.error} again={() => void holding.refetch()} />;
  const first = holding.data.pages[0];
  const held = holding.data.pages.flatMap((p) => p.held);
  const here = held.filter((h) => chosen.has(h.id));
  const ids = here.map((h) => h.id);
  const home = here.filter(isAtHome);
  const clear = () => setChosen(new Set());
  return (
    <section className="mt-6" aria-labelledby="deleted">
      <h2 id="deleted" className="m-0 text-[23px]">
        Deleted
      </h2>
      {first && <p className="mt-0.5 mb-3 max-w-[72ch] text-soft">{ruleWords(first.home_days, first.offsite_days)}</p>}
      {keeper && first?.safety_stop && <SafetyStop held={first.safety_stop} />}
      {back.data && ids.length === 0 && <Done changed={back.data} />}
      {held.length === 0 ? (
        <Empty title="You have deleted nothing">What you delete in the library is kept here for a while, and can be brought back.</Empty>
      ) : (
        <>
          <div className="border-line bg-paper sticky top-0 z-10 flex min-h-[58px] flex-wrap items-center justify-between gap-3 border-b py-2.5">
            {/* biome-ignore lint/a11y/noLabelWithoutControl: the control is a Radix part */}
            <label className="flex items-center gap-2.5">
              <Tick checked={ids.length === held.length || (ids.length > 0 && "indeterminate")} onChange={(on) => setChosen(new Set(on ? held.map((h) => h.id) : []))} />
              {ids.length === 0 ? `Choose all ${count(held.length)}${holding.hasNextPage ? " shown" : ""}` : `${count(ids.length)} chosen, ${size(here.reduce((n, h) => n + h.size, 0))}`}
            </label>
            {ids.length > 0 && (
              <span className="flex gap-2.5">
                {home.length > 0 && (
                  <Button look="danger" onClick={() => setEnding(true)}>
                    Remove now …
                  </Button>
                )}
                <Button look="strong" disabled={back.isPending} onClick={() => back.mutate(ids, { onSuccess: clear })}>
                  Bring back
                </Button>
              </span>
            )}
          </div>
          {back.isError && <Fault failure={back.error} />}
          <ul className="m-0 list-none p-0">
            {held.map((h) => (
              <Line
                key={h.id}
                held={h}
                chosen={chosen.has(h.id)}
                onChoose={(on) => {
                  const next = new Set(chosen);
                  if (on) next.add(h.id);
                  else next.delete(h.id);
                  setChosen(next);
                }}
              />
            ))}
          </ul>
          {holding.hasNextPage && (
            <Button className="mt-4" disabled={holding.isFetchingNextPage} onClick={() => void holding.fetchNextPage()}>
              Show more
            </Button>
          )}
        </>
      )}
      {ending && (
        <Confirm
          title={`Remove ${counted(home.length, "file")} for good?`}
          action="Remove now"
          busy={end.isPending}
          failure={end.error}
          onConfirm={() =>
            end.mutate(
              home.map((h) => h.id),
              {
                onSuccess: () => {
                  clear();
                  setEnding(false);
                },
              },
            )
          }
          onClose={() => setEnding(false)}
        >
        <p className="mt-0">
          {home.length === 1 ? "It is" : "They are"} removed from this server at once.{" "}
          {first && first.offsite_days > 0 ? `The stores keep ${home.length === 1 ? "its copy" : "their copies"} for ${counted(first.offsite_days, "day")} more; until then, this page can still bring ${home.length === 1 ? "it" : "them"} back.` : "The copies in the stores are removed soon after that. Then nobody can bring them back."}
        </p>
        </Confirm>
      )}
    </section>
  );
}

function ruleWords(home: number, offsite: number): string {
  if (home === 0) return "Deleted pictures are kept here until you remove them. Nothing is removed by itself.";
  const away = offsite === 0 ? "then they are removed from this server and from the stores" : `then they are removed from this server, and ${counted(offsite, "day")} later from the stores`;
  return `Deleted pictures are kept here for ${counted(home, "day")}; ${away}. Copies on devices stay there and are not sent again.`;
}

function Done({ changed }: { changed: Schemas["Changed"] }) {
  return (
    <p className="my-3" role="status">
      <State tone="well">{counted(changed.count, "file")} brought back.</State>
      {changed.fetched > 0 && ` ${count(changed.fetched)} of them ${changed.fetched === 1 ? "is" : "are"} being fetched from a store.`}
    </p>
  );
}

function Line({ held: h, chosen, onChoose }: { held: Held; chosen: boolean; onChoose: (on: boolean) => void }) {
  return (
    <li className="border-line border-b last:border-b-0">
      {/* biome-ignore lint/a11y/noLabelWithoutControl: the control is a Radix part */}
      <label className="flex cursor-pointer items-center gap-4 py-2.5 max-sm:gap-3">
        <Tick checked={chosen} onChange={onChoose} aria-label={h.name} />
        <Thumb id={h.id} state={isAtHome(h) ? h.preview : "none"} turned={h.turned} placeholder={h.placeholder} kind={h.kind} />
        <span className="min-w-0 grow">
          <b className="block font-semibold break-words">{h.name}</b>
          <span className="block text-[14px] break-words text-soft">
            {h.folder.split("/").join(" / ")}, {size(h.size)}
          </span>
          <span className="block text-[14px] text-soft sm:hidden">{leaves(h)}</span>
        </span>
        <span className="shrink-0 text-right text-[14.5px] max-sm:hidden">
          <span className="block">{leaves(h)}</span>
          <span className="block text-[14px] text-soft">
            {h.deleted_by}, <When at={h.deleted_at} />
          </span>
        </span>
      </label>
    </li>
  );
}

/** Whether its file is at home still; otherwise bringing it back fetches it from a store. */
const isAtHome = (h: Held) => h.stage === "held";

function leaves(h: Held): ReactNode {
  if (!h.leaves_at) return isAtHome(h) ? "kept until removed" : "only in a store";
  const when = new Date(h.leaves_at) <= new Date() ? "being removed" : `removed ${until(h.leaves_at)}`;
  return isAtHome(h) ? when : `only in a store, ${when}`;
}

function SafetyStop({ held }: { held: Schemas["SafetyStop"] }) {
  const release = useDo(() => ask("/api/holding/release", "POST"), [keys.holding, keys.overview]);
  const [asking, setAsking] = useState(false);
  const it = held.count === 1;
  return (
    <div className="border-ochre my-4 border-l-4 py-1 pl-4" role="status">
      <b className="block text-[17px] font-semibold">
        {counted(held.count, "deleted file")} {it ? "is" : "are"} kept until you confirm that {it ? "it" : "they"} may be removed.
      </b>
      <p className="mt-1 mb-3 max-w-[70ch]">
        The safety stop has held them back: {size(held.bytes)}, {held.percent} % of the library, would be removed within one day, and the limit is {held.limit} %. Somebody may have tidied up, made a mistake, or should not be here at all. Who deleted what is under{" "}
        <Link to="/activity" className="text-ink underline underline-offset-4">
          Activity
        </Link>
        .
      </p>
      <Button look="danger" onClick={() => setAsking(true)}>
        I have checked: remove {it ? "it" : `all ${count(held.count)}`} for good …
      </Button>
      {asking && (
        <Confirm
          title={`Remove ${counted(held.count, "file")} for good?`}
          action={it ? "Remove it" : `Remove all ${count(held.count)}`}
          busy={release.isPending}
          failure={release.error}
          onConfirm={() => release.mutate(undefined, { onSuccess: () => setAsking(false) })}
          onClose={() => setAsking(false)}
        >
          <p className="m-0">
            {size(held.bytes)} are removed from this server, and later from the stores, as the house rules say. What is to stay, bring back first: it is listed below.
          </p>
        </Confirm>
      )}
    </div>
  );
}

const step = "border-line bg-raised mt-2 mb-0 overflow-x-auto rounded-lg border px-3.5 py-2.5 text-[14px]";

function HouseGone() {
  return (
    <section className="border-line mt-10 border-t pt-5" aria-labelledby="gone">
      <h2 id="gone" className="m-0 text-[23px]">
        When this server is gone
      </h2>
      <p className="mt-0.5 mb-4 max-w-[72ch] text-soft">
        Print this page together with the recovery kit: on that day there is no server to ask. Any computer with a connection can bring everything back, with the kit.
      </p>
      <ol className="m-0 max-w-[76ch] space-y-5 pl-6 marker:font-semibold">
        <li className="pl-1.5">
          <b className="font-semibold">Find the recovery kit.</b> It is the sheet with the key and the addresses of the stores, kept in another house or with somebody you trust. You print it under{" "}
          <Link to="/offsite" className="text-ink underline underline-offset-4">
            Offsite
          </Link>
          .
        </li>
        <li className="pl-1.5">
          <b className="font-semibold">Take any computer with Linux and enough room</b> and put Ypogeion on it.
        </li>
        <li className="pl-1.5">
          <b className="font-semibold">Restore the household:</b> people, devices, rules, and every picture in its place.
          <pre tabIndex={0} className={step}>ypogeiond serve</pre>
          It shows an address and a code. Open the address in a browser, type the code, then type the text of the kit; typing mistakes are noticed. (Without a browser: <code>ypogeiond rebuild --kit kit.txt --password-file password.txt</code>, then <code>ypogeiond serve</code>.){" "}
          After some minutes these pages are back, and say how many pictures have arrived; the newest come first. If it is interrupted, it continues where it was. What no store has any more is listed under Activity.
        </li>
        <li className="pl-1.5">
          <b className="font-semibold">Or restore only the pictures,</b> into any folder: all of them, one person’s, one device’s, or those of some days.
          <pre tabIndex={0} className={step}>ypogeiond recover --kit kit.txt --to /media/pictures --member Juno --from 2026-06-01</pre>
          Its last lines say how many were asked for, how many arrived and are right, and which could not be restored.
        </li>
        <li className="pl-1.5">
          <b className="font-semibold">Without this program,</b> the same works by hand with <code>age</code>, <code>gunzip</code>, <code>jq</code> and <code>sha256sum</code>. The guide “Getting everything back by hand” has the lines to type; print it as well.
        </li>
      </ol>
    </section>
  );
}
