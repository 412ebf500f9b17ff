/** Where a picture was taken, and the way to say it. */
import { lazy, Suspense, useState, type ReactNode } from "react";
import { Link } from "react-router";
import { ask, type Failure, type Original, type Schemas } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { exact } from "../format";
import { degrees } from "../ui/degrees";
import { TextButton, When } from "../ui/parts";
import { Fault } from "../ui/states";
import type { Form } from "./said-where";

/** With the map, which few pages need. */
const Spot = lazy(() => import("../ui/map").then((m) => ({ default: m.Spot })));
const SayingWhere = lazy(() => import("./said-where").then((m) => ({ default: m.SayingWhere })));

/** `stop`: nothing follows by itself while somebody says where it was. */
export function Place({ original: o, month, stop, heading }: { original: Original; month: readonly string[]; stop: () => void; heading: ReactNode }) {
  const [saying, setSaying] = useState(false);
  const say = useDo((form: Form) => ask<Schemas["Marked"]>("/api/places", "POST", { pictures: [o.id], ...form }), [keys.original(o.id), month, keys.months]);
  const follow = useDo((gpx: string) => ask<Schemas["Along"]>("/api/places/track", "POST", { pictures: [o.id], gpx }), [keys.original(o.id), month, keys.months]);
  const done = { onSuccess: () => setSaying(false) };
  if (!o.place && !o.own) return null;
  const at = o.place ? ([o.place[0] ?? 0, o.place[1] ?? 0] as const) : undefined;
  const said = o.place_said;
  const inFile = said?.in_file;
  return (
    <>
      {heading}
      {at && (
        <>
          <Suspense fallback={<div className="h-[130px]" />}>
            <Spot north={at[0]} east={at[1]} zoom={6} />
          </Suspense>
          <p className="mt-2 mb-0 text-[15px]">{o.near ? `${o.near[0]?.toUpperCase()}${o.near.slice(1)}` : "Its nearest town is not known yet."}</p>
        </>
      )}
      <p className="m-0 text-[14px] text-soft">
        {at ? (
          <span className="numbers">
            {degrees(...at)}
            {said && "."}
          </span>
        ) : said ? "It has no place." : "Its file names no place."}
        {said && (
          <>
            {" "}
            Said {said.by ? `by ${said.by} ` : ""}
            <When at={said.at} />.
          </>
        )}
      </p>
      {o.own && (
        <p className="m-0 flex flex-wrap gap-x-3 text-[14px] text-soft">
          {at && (
            <Link to={`/places?map=${at[0].toFixed(4)}/${at[1].toFixed(4)}/12.0`} className="text-ink underline decoration-line underline-offset-4 hover:decoration-ink">
              Show it on the map
            </Link>
          )}
          <TextButton
            tone="soft"
            onClick={() => {
              stop();
              setSaying(true);
            }}
          >
            {at ? "Change the place" : "Say where it was taken"}
          </TextButton>
        </p>
      )}
      {saying && (
        <Suspense>
          <SayingWhere pictures={1} at={at} one={o} busy={say.isPending || follow.isPending} onSave={(form) => say.mutate(form, done)} onTrack={(gpx) => follow.mutate(gpx, { onSuccess: (along) => along.count > 0 && setSaying(false) })} onClose={() => setSaying(false)}>
            {said && (
              <p className="mt-2 mb-0 text-[14px] text-soft">
                Its file says {inFile ? degrees(inFile[0] ?? 0, inFile[1] ?? 0) : "nothing of a place"}.{" "}
                <TextButton tone="soft" disabled={say.isPending} onClick={() => say.mutate({ as_in_file: true }, done)}>
                  {inFile ? "Use that" : "Forget what was said"}
                </TextButton>
              </p>
            )}
            {follow.data?.count === 0 && (
              <p role="status" className="mt-2 mb-0 text-[15px] font-semibold">
                The track does not tell where you were when this picture was taken.{follow.data.from && follow.data.until && ` It begins on ${exact(follow.data.from)} and ends on ${exact(follow.data.until)}.`}
              </p>
            )}
            {(say.isError || follow.isError) && <Fault failure={(say.error ?? follow.error) as Failure} />}
          </SayingWhere>
        </Suspense>
      )}
    </>
  );
}
