/** Where pictures were taken: on a map of the earth, and by the names of towns. */
import { useEffect, useRef, useState, type ReactNode } from "react";
import { Link, useLocation, useNavigate } from "react-router";
import type { Failure, Schemas } from "../api/client";
import { useAlbum, useFound, useMap, useSome, useTowns } from "../api/hooks";
import { count, counted } from "../format";
import { areaOf, around, asked, levelOf, lies, moved, pointOf, read, seen, told, written, zoomed, type Size, type View } from "../ui/atlas";
import { DropPlace } from "../ui/adding";
import { FindLine } from "../ui/find";
import { EarthMap, useSize } from "../ui/map";
import { Button, Page, TextButton } from "../ui/parts";
import { addressOf, type Among } from "../ui/sheet";
import { Empty, Fault, Waiting } from "../ui/states";
import { preview } from "../ui/preview";
import { Strip } from "../ui/strip";
import { DroppedTrack } from "./track";

type Town = Schemas["Town"];
type Cell = Schemas["MapCell"];

/** So many pictures of what was clicked are shown. */
const SOME = 24;

/** Where the map of these pictures is. */
function mapOf({ find, album }: Among): string {
  const query = new URLSearchParams();
  if (album) query.set("album", album);
  if (find) query.set("find", find);
  const said = query.toString();
  return said ? `/places?${said}` : "/places";
}

export function Places() {
  const query = new URLSearchParams(useLocation().search);
  const find = query.get("find")?.trim() ?? "";
  const album = query.get("album");
  const [track, setTrack] = useState<File>();
  // Another line, or another album, is another map.
  return (
    <>
      {album ? <OfAlbum key={`${album} ${find}`} among={{ find, album }} /> : <OfLibrary find={find} />}
      <DropPlace onTrack={setTrack} />
      {track && <DroppedTrack key={track.name} file={track} onClose={() => setTrack(undefined)} />}
    </>
  );
}

/** All of the earth, in cells in which a journey of a day is one. */
const EVERYWHERE = "-90/-180..90/180";
const COARSE = 8;

/** The map of an album: where it is, is told by its pictures. */
function OfAlbum({ among }: { among: Among & { album: string } }) {
  const navigate = useNavigate();
  const album = useAlbum(among.album);
  const all = useMap(EVERYWHERE, COARSE, among);
  if (album.isError || all.isError) {
    return (
      <Page title="Places">
        <Fault failure={(album.error ?? all.error) as Failure} again={() => void Promise.all([album.refetch(), all.refetch()])} />
      </Page>
    );
  }
  if (album.isPending || all.isPending) return <Waiting what="the places" full />;
  const cells = all.data.cells;
  const count = cells.reduce((n, c) => n + c.count, 0);
  const says = among.find ? "The map shows only what you look for." : count === 0 ? "None of its pictures says where it was taken." : `${counted(count, "picture")} of it ${count === 1 ? "says" : "say"} where ${count === 1 ? "it was" : "they were"} taken.`;
  return (
    <Known
      among={among}
      title={`Places in “${album.data.name}”`}
      back={
        <Link to={addressOf({ find: "", album: among.album })} className="text-[15px] text-soft underline underline-offset-4 hover:text-ink">
          {album.data.name}
        </Link>
      }
      says={says}
      at={cells.map((c) => ({ north: c.at[0] ?? 0, east: c.at[1] ?? 0 }))}
      towns={[]}
      look={(line) => void navigate(mapOf({ ...among, find: line }))}
    />
  );
}

function OfLibrary({ find }: { find: string }) {
  const navigate = useNavigate();
  const towns = useTowns();
  if (towns.isPending) return <Waiting what="the places" full />;
  if (towns.isError) return <Page title="Places"><Fault failure={towns.error} again={() => void towns.refetch()} /></Page>;
  if (towns.data.length === 0) {
    return (
      <Page title="Places">
        <Empty title="No picture says where it was taken">
          Phones write the place into each picture if their camera may know it: look for “location” in the settings of the phone’s camera. Pictures that have one are shown here on a map, a moment after they arrive.
        </Empty>
      </Page>
    );
  }
  const countries = new Set(towns.data.map((t) => t.country)).size;
  return (
    <Known
      key={find}
      among={{ find }}
      title="Places"
      says={find ? "The map shows only what you look for." : `Your pictures were taken near ${counted(towns.data.length, "town")} in ${counted(countries, "country", "countries")}.`}
      at={towns.data.map((t) => ({ north: t.at[0] ?? 0, east: t.at[1] ?? 0 }))}
      towns={towns.data}
      look={(line) => void navigate(mapOf({ find: line }))}
    />
  );
}

interface KnownProps {
  among: Among;
  title: string;
  /** Above the title: the way back. */
  back?: ReactNode;
  says: string;
  /** Where pictures are: all of that is seen at first. */
  at: readonly { north: number; east: number }[];
  /** What is told beside the map. */
  towns: Town[];
  look: (line: string) => void;
}

function Known({ among, title, back, says, at, towns, look }: KnownProps) {
  const { find } = among;
  const listed = towns.length > 0 && !find;
  const place = useRef<HTMLDivElement>(null);
  const size = useSize(place);
  const { search } = useLocation();
  // Where the address says that one was, when the page is opened.
  const [view, setView] = useState<View | undefined>(() => read(new URLSearchParams(search).get("map")));
  const [chosen, setChosen] = useState<{ line: string; near: string | undefined }>();
  const shown = view ?? around(at, size);
  useAddress(view);
  // The map gets lower to make room for what was chosen: it shows the same then, as near as before, and what was chosen is on it.
  const choose = (next: { line: string; near: string | undefined }, at?: number) => {
    setView(at !== undefined && Math.abs(at) > size.height * 0.3 ? moved(shown, { x: 0, y: -at }) : shown);
    setChosen(next);
  };
  return (
    <div className="px-8 py-[26px] max-lg:px-3 max-lg:py-5">
      {back && <p className="m-0 mb-1">{back}</p>}
      <h1 className="m-0 text-[29px] leading-tight break-words max-sm:text-[25px]">{title}</h1>
      <FindLine among={among} look={look} />
      <p className="mt-1 mb-4 text-[16px] text-soft">{says}</p>
      <div className={`grid gap-x-7 gap-y-5 ${listed ? "xl:grid-cols-[minmax(0,1fr)_270px]" : ""}`}>
        <div className="min-w-0">
          <div ref={place}>
            <EarthMap view={shown} onView={setView} label="Map of where pictures were taken. Arrows move it, plus and minus bring it nearer and farther." className={`border-line min-h-[300px] rounded-lg border ${chosen ? "h-[46vh]" : "h-[62vh]"}`}>
              {(room) => <Cells view={shown} size={room} among={among} chosen={chosen?.line} towns={towns} choose={(cell) => choose({ line: cell.line, near: nearOf(cell, towns) }, pointOf(shown, cell.at[0] ?? 0, cell.at[1] ?? 0).y)} />}
            </EarthMap>
          </div>
          <p className="mt-2 mb-0">
            <TextButton onClick={() => choose({ line: told(seen(shown, size)), near: "on this map" })}>Show the pictures that were taken here</TextButton>
          </p>
          <p className="mt-1.5 mb-0 text-[12.5px] text-soft">Land and borders: Natural Earth. Towns: GeoNames, CC BY 4.0. Nothing of this page is fetched from the internet.</p>
          {chosen && <Chosen key={chosen.line} among={among} chosen={chosen} nearer={() => setView(into(chosen.line, shown, size))} close={() => setChosen(undefined)} />}
        </div>
        {listed && <Towns towns={towns} />}
      </div>
    </div>
  );
}

/** So that what is in this part of the earth fills the map; at least a step nearer. */
function into(line: string, view: View, size: Size): View {
  const area = areaOf(line);
  if (!area) return view;
  const to = around([{ north: area.south, east: area.west }, { north: area.north, east: area.east }], size);
  return { ...to, zoom: zoomed({ ...to, zoom: Math.max(to.zoom, view.zoom + 1) }, 0).zoom };
}

/** Keeps the address at what is seen, so that going back, or a link that was kept, leads there. */
function useAddress(view: View | undefined) {
  // The outside system: the address.
  useEffect(() => {
    if (!view) return;
    const timer = setTimeout(() => {
      const query = new URLSearchParams(window.location.search);
      query.set("map", written(view));
      // Slashes stand for themselves there.
      const address = `${window.location.pathname}?${query.toString().replaceAll("%2F", "/")}`;
      if (window.location.pathname === "/places") window.history.replaceState(window.history.state, "", address);
    }, 250);
    return () => clearTimeout(timer);
  }, [view]);
}

/** What is asked for, once the map has come to rest. */
function useRested<T>(value: T, key: string): T {
  const [rested, setRested] = useState({ value, key });
  // The outside system: time.
  useEffect(() => {
    if (rested.key === key) return;
    const timer = setTimeout(() => setRested({ value, key }), 160);
    return () => clearTimeout(timer);
  }, [rested.key, key, value]);
  return rested.value;
}

/** What pictures were taken near: as the server says it of a small cell; of a large one, the towns in it that pictures were taken near. */
function nearOf(cell: Cell, towns: Town[]): string | undefined {
  if (cell.near) return cell.near;
  const area = areaOf(cell.line);
  const names = towns.filter((t) => area && lies(t.at[0] ?? 0, t.at[1] ?? 0, area)).map((t) => t.name);
  if (names.length === 0) return undefined;
  if (names.length < 3) return `near ${names.join(" and ")}`;
  return `near ${names[0]}, ${names[1]} and ${counted(names.length - 2, "more town")}`;
}

interface CellsProps {
  towns: Town[];
  view: View;
  size: Size;
  among: Among;
  chosen: string | undefined;
  choose: (cell: Cell) => void;
}

function Cells({ view, size, among, chosen, choose, towns }: CellsProps) {
  const level = levelOf(view.zoom);
  const wanted = { area: told(asked(seen(view, size), level)), level };
  const rested = useRested(wanted, `${wanted.area} ${level}`);
  const map = useMap(rested.area, rested.level, among);
  const near = (map.data?.cells ?? []).map((cell) => ({ cell, says: nearOf(cell, towns), at: pointOf(view, cell.at[0] ?? 0, cell.at[1] ?? 0) }));
  const seenNow = near.filter(({ at }) => Math.abs(at.x) < size.width / 2 + 40 && Math.abs(at.y) < size.height / 2 + 40);
  return (
    <>
      {seenNow.map(({ cell, at, says }) => (
        <button
          key={cell.line}
          type="button"
          aria-pressed={chosen === cell.line}
          aria-label={`${counted(cell.count, "picture")} ${says ?? ""}`.trim()}
          title={says}
          onClick={() => choose(cell)}
          className={`bg-raised absolute size-[46px] -translate-1/2 overflow-hidden rounded-[4px] border-2 p-0 shadow-md hover:z-20 focus-visible:z-20 ${chosen === cell.line ? "z-10 border-(--accent)" : "border-raised"}`}
          style={{ left: size.width / 2 + at.x, top: size.height / 2 + at.y }}
        >
          {cell.preview === "ready" && <img src={preview(cell.picture, cell.turned)} alt="" draggable={false} decoding="async" className="size-full object-cover" />}
          <span className="numbers absolute inset-x-0 bottom-0 bg-black/65 text-center text-[11.5px] leading-[15px] font-semibold text-white">{cell.count > 99_999 ? `${count(Math.floor(cell.count / 1000))} k` : count(cell.count)}</span>
        </button>
      ))}
      {map.isError && (
        <div className="bg-raised absolute top-3 left-3 max-w-sm rounded-lg px-3">
          <Fault failure={map.error} again={() => void map.refetch()} />
        </div>
      )}
      {map.data && (map.data.more || (map.data.cells.length === 0 && among.find !== "")) && (
        <p role="status" className="bg-raised absolute top-3 left-3 m-0 rounded-lg px-3 py-1.5 text-[14px]">
          {map.data.more ? "There is more here than the map counts. Go nearer to see all of it." : "Nothing of what you look for was taken here."}
        </p>
      )}
    </>
  );
}

/** What was taken where somebody clicked. */
function Chosen({ among, chosen, nearer, close }: { among: Among; chosen: { line: string; near: string | undefined }; nearer: () => void; close: () => void }) {
  const these = { ...among, find: `${among.find} ${chosen.line}`.trim() };
  const some = useSome(these, SOME);
  const found = useFound(these, false);
  const many = found.data && !found.isPlaceholderData ? (found.data.count >= found.data.most ? `${count(found.data.most)} pictures or more` : counted(found.data.count, "picture")) : "Pictures";
  return (
    <section aria-label="What was taken there" className="border-line bg-raised mt-4 rounded-lg border px-4 pt-3 pb-3.5">
      <div className="mb-2.5 flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <h2 className="m-0 text-[19px]">
          {many} {chosen.near}
        </h2>
        <span className="flex flex-wrap gap-2">
          <Link to={addressOf(these)} className="border-line bg-raised rounded-lg border px-3.5 py-1.5 text-[15px] font-semibold text-ink no-underline hover:border-soft">
            {among.album ? "Show them in the album" : "Show them in the library"}
          </Link>
          <Button onClick={nearer}>Nearer</Button>
          <Button onClick={close}>Close</Button>
        </span>
      </div>
      <div className="min-h-[100px]">{some.isError ? <Fault failure={some.error} again={() => void some.refetch()} /> : <Strip among={these} pictures={some.data?.originals ?? []} height={96} />}</div>
    </section>
  );
}

/** The towns, by country; those with most pictures first. */
function Towns({ towns }: { towns: Town[] }) {
  const countries = new Map<string, Town[]>();
  for (const t of towns) countries.set(t.country, [...(countries.get(t.country) ?? []), t]);
  const sum = (all: Town[]) => all.reduce((n, t) => n + t.count, 0);
  const ordered = [...countries].sort((a, b) => sum(b[1]) - sum(a[1]));
  return (
    <div className="xl:max-h-[calc(100vh-190px)] xl:overflow-y-auto">
      {ordered.map(([country, all]) => (
        <section key={country} className="mb-5">
          <h2 className="border-line m-0 flex items-baseline justify-between gap-3 border-b pb-1 text-[18px]">
            <Link to={addressOf({ find: country })} className="text-ink no-underline hover:underline">
              {country}
            </Link>
            <span className="numbers font-sans text-[14px] text-soft">{count(sum(all))}</span>
          </h2>
          <ul className="m-0 list-none p-0 text-[15px]">
            {all.map((t) => (
              <li key={`${t.name} ${t.region} ${t.at.join(" ")}`} className="flex items-baseline justify-between gap-3 py-[3px]">
                <span className="min-w-0 break-words">
                  <Link to={addressOf({ find: t.name })} className="text-ink underline decoration-line underline-offset-4 hover:decoration-ink">
                    {t.name}
                  </Link>{" "}
                  <span className="text-[13px] text-soft">{t.region}</span>
                </span>
                <span className="numbers shrink-0 text-soft">{count(t.count)}</span>
              </li>
            ))}
          </ul>
        </section>
      ))}
    </div>
  );
}
