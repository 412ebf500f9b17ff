/** When pictures were taken, as somebody says it: of one, and of many. */
import { useState, type FormEvent, type ReactNode } from "react";
import { ask, type Original, type Schemas } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { counted, wall } from "../format";
import { forField, later } from "../ui/wall";
import { Button, Dialog, Field, TextButton, When } from "../ui/parts";
import { Fault } from "../ui/states";

interface SayingProps {
  pictures: number;
  /** When the oldest of them was taken, by what is known now. */
  oldest: string;
  busy: boolean;
  onSave: (seconds: number) => void;
  onClose: () => void;
  children?: ReactNode;
}

/** Asks when pictures were taken. */
export function SayingWhen({ pictures, oldest, busy, onSave, onClose, children }: SayingProps) {
  const [at, setAt] = useState(forField(oldest));
  const seconds = later(oldest, at);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (seconds) onSave(seconds);
  };
  const one = pictures === 1;
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title={one ? "When was it taken?" : `When were these ${counted(pictures, "picture")} taken?`}>
      <form onSubmit={submit}>
        <Field
          label={one ? "Taken on" : "The oldest of them was taken on"}
          type="datetime-local"
          required
          autoFocus
          min="1826-01-01T00:00"
          value={at}
          onChange={(e) => setAt(e.target.value)}
          {...(!one && { hint: "The others keep their distance from it." })}
        />
        <p className="mt-2 mb-0 text-[14px] text-soft">
          As a clock on the wall there showed it. {one ? "It is" : "They are"} filed where {one ? "it belongs" : "they belong"} then: the folder on the disk may be another one. {one ? "The file itself is" : "The files themselves are"} not changed.
        </p>
        {children}
        <div className="mt-4 flex justify-end gap-2.5">
          <Button onClick={onClose}>Cancel</Button>
          <Button look="strong" type="submit" disabled={!seconds || busy}>
            Save
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

/** How it is known when a picture was taken, and the way to say it. `stop`: nothing follows by itself while somebody does. */
export function Taken({ original: o, month, stop }: { original: Original; month: readonly string[]; stop: () => void }) {
  const [saying, setSaying] = useState(false);
  const say = useDo((form: Omit<Schemas["SayWhen"], "pictures">) => ask<Schemas["Marked"]>("/api/times", "POST", { pictures: [o.id], ...form }), [keys.original(o.id), month, keys.months]);
  const done = { onSuccess: () => setSaying(false) };
  const said = o.time_said;
  return (
    <>
      <p className="m-0 text-[14px] text-soft">
        {said ? (
          <>
            Said {said.by ? `by ${said.by} ` : ""}
            <When at={said.at} />. Before, it was {wall(said.before)}, {o.taken_sentence}
          </>
        ) : (
          o.taken_sentence
        )}
        {o.taken_corrected && "; corrected later, because the device’s clock was wrong"}
        {!said && o.taken_confidence === "low" && ". This is a guess and may be wrong."}
        {o.own && (
          <>
            {" "}
            <TextButton
              tone="soft"
              onClick={() => {
                stop();
                setSaying(true);
              }}
            >
              Change when it was taken
            </TextButton>
          </>
        )}
      </p>
      {saying && (
        <SayingWhen pictures={1} oldest={o.taken_local} busy={say.isPending} onSave={(later_by) => say.mutate({ later_by }, done)} onClose={() => setSaying(false)}>
          {said && (
            <p className="mt-2 mb-0 text-[14px] text-soft">
              Before anybody said anything, it was {wall(said.before)}.{" "}
              <TextButton tone="soft" disabled={say.isPending} onClick={() => say.mutate({ as_before: true }, done)}>
                Use that
              </TextButton>
            </p>
          )}
          {say.isError && <Fault failure={say.error} />}
        </SayingWhen>
      )}
    </>
  );
}
