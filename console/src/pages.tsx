/** The pages, each of which comes when somebody opens it; and what is shown when one does not come. */
import { Component, lazy, type ReactNode } from "react";
import { Failure } from "./api/client";
import { Fault } from "./ui/states";

const load = {
  activity: () => import("./pages/activity"),
  adopt: () => import("./pages/adopt"),
  album: () => import("./pages/album"),
  albums: () => import("./pages/albums"),
  brought: () => import("./pages/brought"),
  devices: () => import("./pages/devices"),
  door: () => import("./pages/door"),
  folders: () => import("./pages/folders"),
  library: () => import("./pages/library"),
  me: () => import("./pages/me"),
  night: () => import("./pages/night"),
  offsite: () => import("./pages/offsite"),
  places: () => import("./pages/places"),
  restore: () => import("./pages/restore"),
  settings: () => import("./pages/settings"),
};

export const Activity = lazy(() => load.activity().then((m) => ({ default: m.Activity })));
export const Adopt = lazy(() => load.adopt().then((m) => ({ default: m.Adopt })));
export const AlbumPage = lazy(() => load.album().then((m) => ({ default: m.AlbumPage })));
export const Albums = lazy(() => load.albums().then((m) => ({ default: m.Albums })));
export const BroughtPage = lazy(() => load.brought().then((m) => ({ default: m.BroughtPage })));
export const Account = lazy(() => load.me().then((m) => ({ default: m.Account })));
export const Devices = lazy(() => load.devices().then((m) => ({ default: m.Devices })));
export const Door = lazy(() => load.door().then((m) => ({ default: m.Door })));
export const Folders = lazy(() => load.folders().then((m) => ({ default: m.Folders })));
export const Library = lazy(() => load.library().then((m) => ({ default: m.Library })));
export const Night = lazy(() => load.night().then((m) => ({ default: m.Night })));
export const Offsite = lazy(() => load.offsite().then((m) => ({ default: m.Offsite })));
export const Places = lazy(() => load.places().then((m) => ({ default: m.Places })));
export const Restore = lazy(() => load.restore().then((m) => ({ default: m.Restore })));
export const Settings = lazy(() => load.settings().then((m) => ({ default: m.Settings })));

/** Fetches what was not opened yet, so that it is there when the server is not. One that does not come now is fetched when it is opened. */
export async function fetchPages() {
  for (const one of Object.values(load)) await one().catch(() => undefined);
}

/** A page that could not be fetched: the server is away, or has been renewed and has other pages now. */
export class PageThatCame extends Component<{ at: string; children: ReactNode }, { failed: boolean }> {
  override state = { failed: false };

  static getDerivedStateFromError(error: unknown) {
    // A fault of a page's own is none of these.
    if (!(error instanceof TypeError) || !/import/i.test(error.message)) throw error;
    return { failed: true };
  }

  /** Whoever goes elsewhere sees that page. */
  override componentDidUpdate(before: { at: string }) {
    if (before.at !== this.props.at && this.state.failed) this.setState({ failed: false });
  }

  override render() {
    if (!this.state.failed) return this.props.children;
    const failure = new Failure("unknown", "This page could not be fetched from the server: it does not answer, or it was renewed since you opened this page.");
    return (
      <div className="max-w-xl p-8">
        <Fault failure={failure} again={() => location.reload()} />
      </div>
    );
  }
}
