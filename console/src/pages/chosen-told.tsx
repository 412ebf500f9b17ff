/** What came of what was done with pictures. */
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { counted, size } from "../format";
import { Button, TextButton } from "../ui/parts";
import { Fault } from "../ui/states";
import type { Done, Running } from "./chosen-doing";

export const address = (zip: Schemas["MadeZip"]) => `/api/zips/${zip.id}/bytes`;

export function Line({ children, action }: { children: ReactNode; action: ReactNode }) {
  return (
    <div className="flex flex-wrap items-center justify-between gap-x-5 gap-y-2">
      <span role="status" className="numbers">
        {children}
      </span>
      <span className="flex flex-wrap items-center gap-x-4 gap-y-2 max-sm:w-full max-sm:justify-between">{action}</span>
    </div>
  );
}

/** What was not done with some of them. */
const left = (n: number) => (n > 0 ? ` ${counted(n, "picture")} ${n === 1 ? "was" : "were"} left as ${n === 1 ? "it was" : "they were"}.` : "");

/** What came of it. */
export function Told({ done, running, close }: { done: Done; running: Running; close: () => void }) {
  const shut = (
    <TextButton tone="soft" onClick={close}>
      Close
    </TextButton>
  );
  switch (done.what) {
    case "zip":
      return (
        <Line
          action={
            <>
              <a href={address(done.zip)} className="text-ink underline underline-offset-4">
                Download it again
              </a>
              {shut}
            </>
          }
        >
          “{done.zip.name}” with {counted(done.zip.files, "file")}
          {done.zip.notes > 0 && `, and what you said about ${counted(done.zip.notes, "picture")}`}, {size(done.zip.length)}, is on its way to your downloads.
          {done.zip.left_out > 0 && ` ${counted(done.zip.left_out, "file")} without a good copy at home ${done.zip.left_out === 1 ? "is" : "are"} not in it.`}
        </Line>
      );
    case "deleted":
      return (
        <>
          <Line
            action={
              <>
                {done.files.length > 0 && <Button onClick={() => void running.bringBack(done.files)}>Bring back</Button>}
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} deleted{done.files.length > done.pictures && `, with ${counted(done.files.length, "file")}`}.
            {done.left > 0 && ` ${counted(done.left, "picture")} ${done.left === 1 ? "was" : "were"} not deleted.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "marked":
      return (
        <>
          <Line action={shut}>
            {counted(done.pictures, "picture")} {done.pictures === 1 ? "is" : "are"} {done.favourite ? (done.pictures === 1 ? "a favourite" : "favourites") : done.pictures === 1 ? "no favourite" : "no favourites"} now.
            {left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "away":
    case "not-away":
      return (
        <>
          <Line
            action={
              <>
                {done.ids.length > 0 && <Button onClick={() => void running.putAgain(done.ids, done.what !== "away")}>{done.what === "away" ? "Put back" : "Put away again"}</Button>}
                {done.what === "away" && (
                  <Link to="/library?find=put+away" className="text-ink underline underline-offset-4">
                    Show what was put away
                  </Link>
                )}
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} {done.what === "away" ? "put away" : "put back"}.{left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "words":
      return (
        <>
          <Line action={shut}>
            Written about {counted(done.pictures, "picture")}.{left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "where":
      return (
        <>
          <Line
            action={
              <>
                {!done.in_file && done.ids.length > 0 && <Button onClick={() => void running.whereAgain(done.ids, { as_in_file: true })}>Use what {done.pictures === 1 ? "its file says" : "their files say"}</Button>}
                {shut}
              </>
            }
          >
            {done.in_file ? "What the files say counts for" : "Said where it was of"} {counted(done.pictures, "picture")}.{left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "track":
      return (
        <>
          <Line action={shut}>
            {counted(done.pictures, "picture")} {done.pictures === 1 ? "has" : "have"} the place where you were then.
            {done.placed > 0 && ` ${counted(done.placed, "picture")} had a place and ${done.placed === 1 ? "keeps" : "keep"} it.`}
            {done.off_it > 0 && ` Of ${counted(done.off_it, "picture")} the track does not tell where ${done.off_it === 1 ? "it was" : "they were"} taken.`}
            {left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "when":
      return (
        <>
          <Line
            action={
              <>
                {done.ids.length > 0 && <Button onClick={() => void running.whenAgain(done.ids, -done.later_by)}>Undo</Button>}
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} {done.pictures === 1 ? "is" : "are"} of another time now, and filed there in a moment.{left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "turned":
      return (
        <>
          <Line
            action={
              <>
                {done.ids.length > 0 && <Button onClick={() => void running.turnAgain(done.ids, -done.quarters)}>Undo</Button>}
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} turned to the {done.quarters > 0 ? "right" : "left"}.{left(done.left)}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "added":
      return (
        <>
          <Line
            action={
              <>
                <Link to={`/albums/${done.album.id}`} className="text-ink underline underline-offset-4">
                  Open the album
                </Link>
                {shut}
              </>
            }
          >
            {counted(done.pictures, "picture")} added to “{done.album.name}”.
            {done.there > 0 && ` ${counted(done.there, "picture")} ${done.there === 1 ? "was" : "were"} in it already.`}
            {done.left > 0 && ` ${counted(done.left, "picture")} ${done.left === 1 ? "was" : "were"} not added.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "taken-out":
      return (
        <>
          <Line action={shut}>
            {counted(done.pictures, "picture")} taken out of “{done.album.name}”.
            {done.left > 0 && ` ${counted(done.left, "picture")} of others ${done.left === 1 ? "stays" : "stay"}: whose picture it is, or whose album, takes it out.`}
          </Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
    case "back":
      return (
        <>
          <Line action={shut}>{counted(done.files, "file")} brought back.</Line>
          {done.failure && <Fault failure={done.failure} />}
        </>
      );
  }
}
