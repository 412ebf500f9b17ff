/** Where pictures were taken, as somebody says it: of one, and of many. */
import { useRef, useState, type ReactNode } from "react";
import type { Schemas } from "../api/client";
import { useBeside, useTowns } from "../api/hooks";
import { counted, size } from "../format";
import { around, type View } from "../ui/atlas";
import { Select } from "../ui/choose";
import { EarthMap, useSize } from "../ui/map";
import { Button, Dialog, TextButton } from "../ui/parts";
import { Waiting } from "../ui/states";
import { degrees } from "../ui/degrees";
import { preview } from "../ui/preview";
import { apart } from "../ui/wall";

export type Form = Omit<Schemas["SayWhere"], "pictures">;
type At = readonly [number, number];

/** Where one sees the coast, or the border, that is known. */
const NEAR = 12;
/** Farther away, a finger covers a province. */
const FARTHEST = 7;

interface SayingProps {
  pictures: number;
  /** Where they are, by what is known now. */
  at?: At | undefined;
  /** The picture, if it is one: what was taken beside it may have been taken there, too. */
  one?: { id: string; taken_local: string } | undefined;
  busy: boolean;
  onSave: (form: Form) => void;
  /** By a track of where somebody was. */
  onTrack: (gpx: string) => void;
  onClose: () => void;
  children?: ReactNode;
}

/** With all else in its request, as much as the server takes. */
export const LARGEST_TRACK = 7_500_000;

/** Asks where pictures were taken. */
export function SayingWhere(props: SayingProps) {
  const { pictures, onClose } = props;
  // Without them one finds the place on the map.
  const towns = useTowns();
  return (
    <Dialog wide open onOpenChange={(open) => !open && onClose()} title={pictures === 1 ? "Where was it taken?" : `Where were these ${counted(pictures, "picture")} taken?`}>
      {towns.isPending ? <Waiting what="the map" /> : <OnMap towns={towns.data ?? []} {...props} />}
    </Dialog>
  );
}

function OnMap({ towns, pictures, at, one, busy, onSave, onTrack, onClose, children }: SayingProps & { towns: Schemas["Town"][] }) {
  const place = useRef<HTMLDivElement>(null);
  const room = useSize(place);
  const [moved, setMoved] = useState<View>();
  const known = towns.map((t) => ({ north: t.at[0] ?? 0, east: t.at[1] ?? 0 }));
  const view = moved ?? (at ? { north: at[0], east: at[1], zoom: NEAR } : around(known, room));
  const go = ([north, east]: At, zoom = NEAR) => setMoved({ north, east, zoom });
  const far = view.zoom < FARTHEST;
  const names = towns.map((t, n) => [String(n), `${t.name}, ${t.country}`] as const).sort((a, b) => a[1].localeCompare(b[1]));
  return (
    <>
      {one && <Beside one={one} go={go} />}
      {names.length > 0 && (
        <p className="m-0 mb-2.5 flex flex-wrap items-center gap-x-3 gap-y-1.5 text-[15px]">
          Near a town of other pictures
          <Select
            label="A town of other pictures"
            value={undefined}
            placeholder="Choose one"
            choices={names}
            onChange={(n) => {
              const town = towns[Number(n)];
              if (town) go([town.at[0] ?? 0, town.at[1] ?? 0], 12);
            }}
            className="min-w-52 max-sm:w-full"
          />
        </p>
      )}
      <div ref={place}>
        <EarthMap view={view} onView={setMoved} label="Map. What is at its middle is where it was. Arrows move it, plus and minus bring it nearer and farther." className="border-line h-[min(330px,42vh)] rounded-lg border">
          {() => <Cross />}
        </EarthMap>
      </div>
      <p className="mt-2 mb-0 text-[14px] text-soft">
        {far ? "Bring the map nearer, and the place to its middle." : <>At the middle of the map: <span className="numbers">{degrees(view.north, view.east)}</span>. The {pictures === 1 ? "file itself is" : "files themselves are"} not changed.</>}
      </p>
      {!at && <Track busy={busy} onTrack={onTrack} />}
      {children}
      <div className="mt-4 flex flex-wrap items-center justify-between gap-2.5">
        {one && !at ? (
          <span />
        ) : (
          <TextButton tone="soft" disabled={busy} onClick={() => onSave({ nowhere: true })}>
            {pictures === 1 ? "It has no place" : "They have no place"}
          </TextButton>
        )}
        <span className="flex gap-2.5">
          <Button onClick={onClose}>Cancel</Button>
          <Button look="strong" disabled={far || busy} onClick={() => onSave({ at: [view.north, view.east] })}>
            {pictures === 1 ? "It was taken here" : "They were taken here"}
          </Button>
        </span>
      </div>
    </>
  );
}

/** Where the pictures were taken that were taken shortly before and after it. */
function Beside({ one, go }: { one: { id: string; taken_local: string }; go: (at: At) => void }) {
  const beside = useBeside(one.id);
  if (!beside.data?.length) return null;
  return (
    <ul aria-label="Pictures that were taken shortly before or after" className="m-0 mb-2.5 flex list-none flex-wrap gap-2 p-0">
      {beside.data.map((b) => (
        <li key={b.picture}>
          <button type="button" onClick={() => go([b.at[0] ?? 0, b.at[1] ?? 0])} className="border-line bg-raised flex items-center gap-2.5 rounded-lg border p-1 pr-3 text-left text-[14.5px] hover:border-soft">
            <img src={preview(b.picture, b.turned)} alt="" className="size-10 rounded object-cover" />
            <span>
              As the one {apart(one.taken_local, b.taken_local)}
              <span className="block text-[13.5px] text-soft">{b.near ?? degrees(b.at[0] ?? 0, b.at[1] ?? 0)}</span>
            </span>
          </button>
        </li>
      ))}
    </ul>
  );
}

/** Takes a track that a phone or a receiver wrote meanwhile. */
function Track({ busy, onTrack }: { busy: boolean; onTrack: (gpx: string) => void }) {
  const field = useRef<HTMLInputElement>(null);
  const [odd, setOdd] = useState<string>();
  const read = async (file: File | undefined) => {
    if (!file) return;
    if (file.size > LARGEST_TRACK) {
      setOdd(`“${file.name}” is larger than ${size(LARGEST_TRACK)}. Take a track of fewer days.`);
      return;
    }
    setOdd(undefined);
    onTrack(await file.text());
  };
  return (
    <p className="mt-2 mb-0 text-[14px] text-soft">
      A phone or a receiver wrote down where you were?{" "}
      <TextButton tone="soft" disabled={busy} onClick={() => field.current?.click()}>
        Use its track (GPX) …
      </TextButton>
      <input ref={field} type="file" accept=".gpx,application/gpx+xml" aria-label="A track, GPX" hidden onChange={(e) => void read(e.target.files?.[0])} />
      {odd && (
        <span role="alert" className="block font-semibold text-oxide">
          {odd}
        </span>
      )}
    </p>
  );
}

/** What marks the middle of the map. */
function Cross() {
  return (
    <svg aria-hidden viewBox="-16 -16 32 32" className="pointer-events-none absolute top-1/2 left-1/2 size-8 -translate-1/2">
      <g fill="none" stroke="var(--color-raised)" strokeWidth="5" strokeLinecap="round">
        <circle r="4" />
        <path d="M-15 0h8M7 0h8M0 -15v8M0 7v8" />
      </g>
      <g fill="none" stroke="var(--accent)" strokeWidth="2.4" strokeLinecap="round">
        <circle r="4" />
        <path d="M-15 0h8M7 0h8M0 -15v8M0 7v8" />
      </g>
    </svg>
  );
}
