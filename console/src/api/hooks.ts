/** Data hooks, one for each thing the pages ask for. */
import { keepPreviousData, useInfiniteQuery, useMutation, useQueries, useQuery, useQueryClient, type UseQueryOptions } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Among } from "../ui/sheet";
import { keys } from "./keys";
import { kindsOfEvents, stale, type LiveEvent } from "./live";
import { ask, Failure, type Album, type Me, type Original, type OriginalCard, type Overview, type Schemas, type Store, type Device, type Run } from "./client";

export { keys };

export const useMe = () => useQuery<Me, Failure>({ queryKey: keys.me, queryFn: arrive, staleTime: Infinity });

/** Asked before anything is known, so that a stranger is told and not refused. */
async function arrive(): Promise<Me> {
  const { set_up, me } = await ask<Schemas["Arrival"]>("/api/arrival");
  if (!set_up) throw new Failure("not-set-up", "There is no household here yet.");
  if (!me) throw new Failure("not-signed-in", "Nobody is signed in here.");
  return me;
}
export const useSessions = () => useQuery<Schemas["SignedIn"][], Failure>({ queryKey: keys.sessions, queryFn: () => ask("/api/sessions"), staleTime: 0 });
export const useOverview = () => useQuery<Overview, Failure>({ queryKey: keys.overview, queryFn: () => ask("/api/overview") });
/** What is added to an address so that it means these pictures alone. */
function sought({ find, album }: Among, first: "?" | "&"): string {
  const query = new URLSearchParams();
  if (find) query.set("find", find);
  if (album) query.set("album", album);
  const said = query.toString();
  return said ? first + said : "";
}
export const useMonths = (among: Among) =>
  useQuery<Schemas["Month"][], Failure>({ queryKey: keys.monthsOf(among), queryFn: () => ask(`/api/months${sought(among, "?")}`), placeholderData: keepPreviousOf(among) });
/** What was shown before stands in for what is coming, of the same library or album. */
const keepPreviousOf = (among: Among) => (before: Schemas["Month"][] | undefined, query: { queryKey: readonly unknown[] } | undefined) =>
  query && JSON.stringify(query.queryKey.slice(0, -1)) === JSON.stringify(keys.monthsOf(among).slice(0, -1)) ? before : undefined;
/** How a line is understood that says which pictures are meant, how many there are, and what it may become. */
export const useFound = ({ find: line, album }: Among, suggest: boolean) =>
  useQuery<Schemas["Found"], Failure>({
    queryKey: [...keys.found({ find: line, album }), String(suggest)],
    queryFn: () => ask(`/api/find?suggest=${suggest}&line=${encodeURIComponent(line)}${sought({ find: "", album }, "&")}`),
    enabled: line !== "",
    placeholderData: keepPreviousData,
  });
/** How much is chosen; undefined: nothing. */
export const useHowMuch = (choice: Schemas["Choice"] | undefined) =>
  useQuery<Schemas["HowMuch"], Failure>({
    queryKey: keys.chosen(JSON.stringify(choice ?? null), choice?.album ?? undefined),
    queryFn: () => ask("/api/choice", "POST", choice),
    enabled: choice !== undefined,
    placeholderData: keepPreviousData,
  });
/** Some of these pictures, newest first. */
export const useSome = (among: Among, limit: number, enabled = true) =>
  useQuery<Schemas["Originals"], Failure>({ queryKey: [...keys.monthsOf(among), "some", String(limit)], queryFn: () => ask(`/api/originals?limit=${limit}${sought(among, "&")}`), enabled });
/** `among`: which the next ones are. */
export const useOriginal = (id: string | undefined, among: Among) =>
  useQuery<Original, Failure>({
    queryKey: keys.originalAmong(id ?? "", among),
    queryFn: () => ask(`/api/originals/${id}${sought(among, "?")}`),
    enabled: id !== undefined,
    placeholderData: keepPreviousData,
  });
/** Where these pictures were taken, in a part of the earth. */
export const useMap = (area: string, level: number, among: Among) =>
  useQuery<Schemas["MapCells"], Failure>({
    queryKey: [...keys.monthsOf(among), "map", area, String(level)],
    queryFn: () => ask(`/api/map?area=${encodeURIComponent(area)}&level=${level}${sought(among, "&")}`),
    placeholderData: keepPreviousData,
  });
/** The towns that they were taken near. */
export const useTowns = () => useQuery<Schemas["Town"][], Failure>({ queryKey: keys.towns, queryFn: () => ask("/api/towns") });
/** The pictures with a place that were taken shortly before and after this one. */
export const useBeside = (id: string) => useQuery<Schemas["Beside"][], Failure>({ queryKey: [...keys.original(id), "beside"], queryFn: () => ask(`/api/originals/${id}/beside`) });
/** What is in a folder of one's own part of the library. */
export const useFolder = (of: string) => useQuery<Schemas["Folder"], Failure>({ queryKey: [...keys.months, "folder", of], queryFn: () => ask(`/api/folders?of=${encodeURIComponent(of)}`) });
export const useAlbums = () => useQuery<Album[], Failure>({ queryKey: keys.albumList, queryFn: () => ask("/api/albums") });
export const useAlbum = (id: string) => useQuery<Album, Failure>({ queryKey: keys.album(id), queryFn: () => ask(`/api/albums/${id}`) });
/** The links to an album of one's own. */
export const useLinks = (album: string) => useQuery<Schemas["Link"][], Failure>({ queryKey: keys.links(album), queryFn: () => ask(`/api/albums/${album}/links`) });
/** All links of one's own. */
export const useOwnLinks = () => useQuery<Schemas["OwnLink"][], Failure>({ queryKey: keys.ownLinks, queryFn: () => ask("/api/links") });
/** An album in its order. */
export const useArranged = (album: string | undefined, enabled = true) =>
  useQuery<Schemas["ArrangedAlbum"], Failure>({ queryKey: keys.arranged(album ?? ""), queryFn: () => ask(`/api/albums/${album}/arrangement`), enabled: enabled && album !== undefined });
/** What people outside brought to oneself. */
export const useBrought = () => useQuery<Schemas["BroughtPictures"], Failure>({ queryKey: keys.brought, queryFn: () => ask("/api/brought") });
export const useDevices = () => useQuery<Device[], Failure>({ queryKey: keys.deviceList, queryFn: () => ask("/api/devices") });
export const usePeople = (enabled: boolean) =>
  useQuery<Schemas["Person"][], Failure>({ queryKey: keys.people, queryFn: () => ask("/api/people"), enabled });
export const useRuns = () => useQuery<Run[], Failure>({ queryKey: keys.runs, queryFn: () => ask("/api/runs?folded=true&limit=40") });
/** All backups of one device and day, one by one. */
export const useRunsOfDay = (device: string, day: string) =>
  useQuery<Run[], Failure>({ queryKey: keys.runsOfDay(device, day), queryFn: () => ask(`/api/runs?device=${device}&day=${day}`) });
export const useEntries = (run: string, outcome: string) =>
  useQuery<Schemas["RunEntries"], Failure>({
    queryKey: keys.entries(run, outcome),
    queryFn: () => ask(`/api/runs/${run}/entries?limit=200${outcome === "all" ? "" : `&outcome=${outcome}`}`),
    placeholderData: keepPreviousData,
  });
export const useStores = () => useQuery<Store[], Failure>({ queryKey: keys.stores, queryFn: () => ask("/api/stores") });
export const useChecks = () => useQuery<Schemas["Checks"], Failure>({ queryKey: keys.checks, queryFn: () => ask("/api/checks") });
export const useHistory = () => useQuery<Schemas["History"], Failure>({ queryKey: keys.history, queryFn: () => ask("/api/history"), staleTime: 60_000 });
export const useKey = () => useQuery<Schemas["HouseKey"], Failure>({ queryKey: keys.key, queryFn: () => ask("/api/key") });
/** `faults`: at most so many of what failed. */
export const useWork = (enabled: boolean, faults = 100) =>
  useQuery<Schemas["Work"], Failure>({ queryKey: [...keys.work, "faults", faults], queryFn: () => ask(`/api/work?faults=${faults}`), enabled, placeholderData: keepPreviousData });
export const useRecord = (enabled: boolean) =>
  useQuery<Schemas["RecordLine"][], Failure>({ queryKey: keys.record, queryFn: () => ask("/api/record"), enabled });

export const useHousehold = () => useQuery<Schemas["Household"], Failure>({ queryKey: keys.household, queryFn: () => ask("/api/household") });
/** Folders outside the library in which originals were left. */
export const useLeftFolders = () => useQuery<Schemas["LeftFolder"][], Failure>({ queryKey: keys.leftFolders, queryFn: () => ask("/api/left-folders") });
export const useAdoptions = () => useQuery<Schemas["Adoption"][], Failure>({ queryKey: keys.adoptions, queryFn: () => ask("/api/adoptions") });
export const useAdopted = (adoption: string, outcome: string) =>
  useQuery<Schemas["AdoptedFile"][], Failure>({ queryKey: keys.adopted(adoption, outcome), queryFn: () => ask(`/api/adoptions/${adoption}/files?outcome=${outcome}`), placeholderData: keepPreviousData });
/** Not stale by events: what lies on a disk elsewhere is looked at when somebody opens it. */
export const useAdoptable = (folder: string) =>
  useQuery<Schemas["AdoptablePlaces"], Failure>({ queryKey: ["adoptable", folder], queryFn: () => ask(`/api/adoptions/places?folder=${encodeURIComponent(folder)}`), placeholderData: keepPreviousData });
export const usePlace = () => useQuery<Schemas["Place"], Failure>({ queryKey: keys.place, queryFn: () => ask("/api/place") });
export const useRefilings = () => useQuery<Schemas["Refiling"][], Failure>({ queryKey: keys.refilings, queryFn: () => ask("/api/filing") });
/** `limit`: at most so many files of what is not here. */
export const useCoverage = (device: string, limit: number) =>
  useQuery<Schemas["DeviceCoverage"], Failure>({ queryKey: keys.coverage(device, limit), queryFn: () => ask(`/api/devices/${device}/coverage?limit=${limit}`), placeholderData: keepPreviousData });
export const useClocks = (device: string) =>
  useQuery<Schemas["Correction"][], Failure>({ queryKey: keys.clocks(device), queryFn: () => ask(`/api/devices/${device}/clock`) });

/** How the pictures of a month lie, before any of them is asked for. */
export const useShape = (month: string, among: Among, enabled: boolean) =>
  useQuery<Schemas["MonthShape"], Failure>({ queryKey: [...keys.originals(month, among.album), "shape", among.find], queryFn: () => ask(`/api/months/${month}/shape${sought(among, "?")}`), enabled });

/** Pictures of a month in portions, those that are asked for and no others: what has come of them, and the first failure. */
export function usePortions(month: string, among: Among, shape: Schemas["MonthShape"] | undefined, portions: number[]) {
  const client = useQueryClient();
  const queries = portions.map((n): UseQueryOptions<OriginalCard[], Failure> => {
    const after = n > 0 ? shape?.starts[n - 1] : undefined;
    // Where a portion begins changes when a picture comes before it. Until the new one is there, the old one is shown.
    const last = [...keys.originals(month, among.album), "last", among.find, String(n)];
    return {
      queryKey: [...keys.originals(month, among.album), "portion", among.find, String(n), after ?? ""],
      queryFn: async () => {
        const page = await ask<Schemas["Originals"]>(`/api/originals?month=${month}&limit=${shape?.portion}${after ? `&after=${encodeURIComponent(after)}` : ""}${sought(among, "&")}`);
        client.setQueryData(last, page.originals);
        return page.originals;
      },
      placeholderData: () => client.getQueryData<OriginalCard[]>(last),
      enabled: shape !== undefined,
    };
  });
  return useQueries({
    queries,
    combine: (asked) => ({
      cards: new Map(portions.map((n, i) => [n, asked[i]?.data])),
      failed: asked.find((one) => one.isError),
    }),
  });
}

/** What was deleted, page by page as somebody asks for more. */
export const useHolding = (enabled = true) =>
  useInfiniteQuery<Schemas["Holding"], Failure, { pages: Schemas["Holding"][] }, readonly string[], string | undefined>({
    queryKey: keys.holding,
    queryFn: ({ pageParam }) => ask(`/api/holding?limit=100${pageParam ? `&after=${encodeURIComponent(pageParam)}` : ""}`),
    initialPageParam: undefined,
    getNextPageParam: (last) => last.next ?? undefined,
    enabled,
  });

/** Files with their copies, page by page: `short`, or what a number of the overview counts. */
export const useCopies = (which: string) =>
  useInfiniteQuery<Schemas["CopiedFiles"], Failure, { pages: Schemas["CopiedFiles"][] }, readonly string[], string | undefined>({
    queryKey: keys.copies(which),
    queryFn: ({ pageParam }) => ask(`/api/copies/${which}?limit=100${pageParam ? `&after=${encodeURIComponent(pageParam)}` : ""}`),
    initialPageParam: undefined,
    getNextPageParam: (last) => last.next ?? undefined,
  });

/** Does something, and makes stale what it may have changed. */
export function useDo<V, R = unknown>(act: (value: V) => Promise<R>, stale: readonly (readonly string[])[]) {
  const client = useQueryClient();
  return useMutation<R, Failure, V>({
    mutationFn: act,
    onSuccess: () => Promise.all(stale.map((queryKey) => client.invalidateQueries({ queryKey }))),
  });
}

/** Listens to the service's events; what they name becomes stale. Says whether the service is there. */
export function useLive(signedIn: boolean): boolean {
  const client = useQueryClient();
  const [there, setThere] = useState(true);
  // The outside system: a server-sent event stream, which the browser reconnects by itself.
  useEffect(() => {
    if (!signedIn) return;
    const events = new EventSource("/api/events");
    let lost = false;
    events.onopen = () => {
      setThere(true);
      if (lost) void client.invalidateQueries();
      lost = false;
    };
    events.onerror = () => {
      lost = true;
      setThere(false);
    };
    for (const kind of kindsOfEvents) {
      events.addEventListener(kind, (told: MessageEvent<string>) => {
        for (const queryKey of stale(JSON.parse(told.data) as LiveEvent)) void client.invalidateQueries({ queryKey });
      });
    }
    // A page that a browser keeps for "back" must not hold its connection: there are only six to one server.
    const leave = () => events.close();
    window.addEventListener("pagehide", leave);
    return () => {
      window.removeEventListener("pagehide", leave);
      events.close();
    };
  }, [client, signedIn]);
  return there;
}
