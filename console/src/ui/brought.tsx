/** That people outside brought something, where whoever it waits for comes by. Nothing there, nothing shown. */
import { Link } from "react-router";
import { useBrought } from "../api/hooks";
import { counted } from "../format";

/** `album`: only what was brought for this one. */
export function BroughtNote({ album }: { album?: string }) {
  const brought = useBrought();
  const waiting = album ? (brought.data?.pictures.filter((p) => p.album === album).length ?? 0) : (brought.data?.waiting.count ?? 0);
  if (waiting === 0) return null;
  return (
    <p className="border-ochre bg-raised my-3 w-fit rounded-lg border px-4 py-2 text-[15.5px]">
      {counted(waiting, "picture")} brought by people with a link {waiting === 1 ? "waits" : "wait"} for you.{" "}
      <Link to="/brought" className="font-semibold text-accent">
        Look at {waiting === 1 ? "it" : "them"}
      </Link>
    </p>
  );
}
