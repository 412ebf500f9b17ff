import type { Among } from "../ui/sheet";

/** What is told of a library, or of the pictures of an album. */
const within = (album?: string) => (album ? ["albums", "in", album] : ["library"]);

/** What each thing that is asked for is kept under. A key is stale with every key that it begins with. */
export const keys = {
  me: ["me"],
  sessions: ["sessions"],
  overview: ["overview"],
  copies: (which: string) => ["overview", "copies", which],
  /** All that is told of months, and what of them was looked for. */
  months: ["library", "months"],
  monthsOf: ({ find, album }: Among) => [...within(album), "months", find],
  chosen: (choice: string, album?: string) => [...within(album), "months", "chosen", choice],
  found: ({ find, album }: Among) => [...within(album), "months", "found", find],
  towns: ["library", "months", "towns"],
  originals: (month: string, album?: string) => [...within(album), "month", month],
  original: (id: string) => ["library", "original", id],
  originalAmong: (id: string, { find, album }: Among) => ["library", "original", id, find, album ?? ""],
  /** All that is told of albums, and of what is in them. */
  albums: ["albums"],
  albumList: ["albums", "list"],
  album: (id: string) => ["albums", "one", id],
  arranged: (id: string) => ["albums", "in", id, "arranged"],
  links: (album: string) => ["albums", "links", album],
  ownLinks: ["albums", "links"],
  brought: ["albums", "brought"],
  /** All that is asked of devices. */
  devices: ["devices"],
  deviceList: ["devices", "list"],
  people: ["devices", "people"],
  runs: ["runs"],
  runsOfDay: (device: string, day: string) => ["runs", device, day],
  entries: (run: string, outcome: string) => ["runs", "entries", run, outcome],
  stores: ["offsite", "stores"],
  checks: ["offsite", "checks"],
  key: ["offsite", "key"],
  history: ["offsite", "history"],
  work: ["work"],
  record: ["record"],
  adoptions: ["work", "adoptions"],
  adopted: (adoption: string, outcome: string) => ["work", "adopted", adoption, outcome],
  leftFolders: ["library", "left"],
  household: ["library", "household"],
  refilings: ["library", "refilings"],
  holding: ["library", "holding"],
  place: ["place"],
  coverage: (device: string, limit: number) => ["devices", "coverage", device, String(limit)],
  clocks: (device: string) => ["devices", "clock", device],
} as const;
