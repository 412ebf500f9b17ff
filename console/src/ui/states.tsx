/** Waiting, failed, empty: designed states, so that no page invents its own. */
import type { ReactNode } from "react";
import type { Failure } from "../api/client";
import { Button } from "./parts";

export function Waiting({ what, full = false }: { what: string; full?: boolean }) {
  return (
    <p role="status" className={`m-0 text-soft ${full ? "p-8" : "py-6"}`}>
      Loading {what} …
    </p>
  );
}

/** A failure in words. What can be asked for `again` was to be shown; everything else was to be done. */
export function Fault({ failure, again }: { failure: Failure; again?: () => void }) {
  return (
    <div role="alert" className="border-oxide my-4 border-l-4 py-1 pl-4">
      <p className="m-0 font-semibold text-ink">{failure.kind === "offline" ? "The server does not answer" : again ? "This could not be shown" : "This was not done"}</p>
      <p className="mt-1 mb-0 max-w-prose text-soft">{failure.detail}</p>
      {failure.request && <p className="mt-1 mb-0 text-[13px] text-soft">In the log: request {failure.request}</p>}
      {again && (
        <Button className="mt-3" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="border-line my-6 max-w-xl border-t-[3px] border-dashed pt-5">
      <h2 className="m-0 text-[21px]">{title}</h2>
      <div className="mt-2 text-soft">{children}</div>
    </div>
  );
}
