/** One's own library. */
import { useState } from "react";
import { Link, useLocation } from "react-router";
import { counted } from "../format";
import { AddButton, DropPlace } from "../ui/adding";
import { BroughtNote } from "../ui/brought";
import { Empty } from "../ui/states";
import { KeepAsAlbum } from "./albums";
import { Browse } from "./browse";
import { ThisDay } from "./this-day";
import { DroppedTrack } from "./track";

export function Library({ keeper }: { keeper: boolean }) {
  const [track, setTrack] = useState<File>();
  const { search } = useLocation();
  const find = new URLSearchParams(search).get("find")?.trim() ?? "";
  return (
    <Browse
      among={{ find }}
      title="Library"
      actions={
        <>
          <AddButton />
          <DropPlace onTrack={setTrack} />
          {track && <DroppedTrack key={track.name} file={track} onClose={() => setTrack(undefined)} />}
          {keeper && (
          <Link to="/library/adopt" className="border-line bg-raised rounded-lg border px-3.5 py-1.5 text-[15px] font-semibold text-ink no-underline hover:border-soft">
            Adopt an old disk
          </Link>
          )}
        </>
      }
      also={find && <KeepAsAlbum key={find} line={find} />}
      says={(total, months) => (total > 0 ? `${counted(total, "picture")} of yours, in ${counted(months.length, "month")}.` : find ? "No picture of yours is like that." : "Nothing has arrived yet.")}
      above={
        <>
          <BroughtNote />
          <ThisDay />
        </>
      }
      empty={
        <Empty title="No pictures yet">
          Pair a phone or a computer under Devices, or drop pictures onto this page. What arrives appears here at once, and in plain folders on the home disk.
        </Empty>
      }
    />
  );
}
