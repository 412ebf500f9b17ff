/** What the service's events make stale: what they name, and nothing else. */
import type { Schemas } from "./client";
import { keys } from "./keys";

export type LiveEvent = Schemas["LiveEvent"];

/** Every kind of event, so that the compiler sees to it that all are listened to. */
const kinds: Record<LiveEvent["kind"], true> = { overview: true, originals: true, library: true, devices: true, runs: true, offsite: true, albums: true, work: true, record: true };
export const kindsOfEvents = Object.keys(kinds) as LiveEvent["kind"][];

/** The keys of what has to be asked for again. */
export function stale(event: LiveEvent): readonly (readonly string[])[] {
  switch (event.kind) {
    case "originals":
      return [keys.months, keys.holding, keys.albums, ...event.months.map((month) => keys.originals(month)), ...event.ids.map(keys.original)];
    case "devices":
      if (event.ids.length === 0) return [keys.devices];
      return [keys.deviceList, keys.people, ...event.ids.flatMap((id) => [["devices", "coverage", id], keys.clocks(id)])];
    case "library":
      return [["library"], keys.albums];
    default:
      return [[event.kind]];
  }
}
