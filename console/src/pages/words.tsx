/** What is said about pictures: shown with one, and written about one or many. */
import { useId, useState, type FormEvent, type KeyboardEvent } from "react";
import { ask, type Original, type Schemas } from "../api/client";
import { keys, useDo } from "../api/hooks";
import { counted } from "../format";
import { Button, Dialog, Field, TextButton, When } from "../ui/parts";
import { Fault } from "../ui/states";

type Form = Omit<Schemas["WriteWords"], "pictures">;

/** As long as the server keeps them. */
const LONGEST = { title: 200, caption: 5000 };

/** The title and the caption of a picture, and the way to write them. `stop`: nothing follows by itself while somebody writes. */
export function Words({ original: o, month, stop }: { original: Original; month: readonly string[]; stop: () => void }) {
  const [writing, setWriting] = useState(false);
  const write = useDo((form: Form) => ask<Schemas["Marked"]>("/api/words", "POST", { pictures: [o.id], ...form }), [keys.original(o.id), month, keys.months]);
  const { title, caption, written_at, written_by, in_file } = o.words;
  const done = { onSuccess: () => setWriting(false) };
  if (writing)
    return (
      <Writing
        title={title}
        caption={caption}
        busy={write.isPending}
        onSave={(words) => write.mutate(words, done)}
        onFile={written_at ? () => write.mutate({ as_in_file: true }, done) : undefined}
        inFile={in_file}
        onClose={() => setWriting(false)}
      >
        {write.isError && <Fault failure={write.error} />}
      </Writing>
    );
  const said = title || caption;
  if (!said && !o.own) return null;
  return (
    <div className="mt-4 text-[16px]">
      {title && (
        <p dir="auto" className="m-0 font-semibold break-words">
          {title}
        </p>
      )}
      {caption && (
        <p dir="auto" className="m-0 break-words whitespace-pre-line">
          {caption}
        </p>
      )}
      <p className="m-0 mt-0.5 flex flex-wrap gap-x-3 text-[14px] text-soft">
        {said && (
          <span>
            {written_at ? (
              <>
                Written {written_by ? `by ${written_by} ` : ""}
                <When at={written_at} />
              </>
            ) : (
              "As its file says"
            )}
          </span>
        )}
        {o.own && (
          <TextButton
            tone="soft"
            onClick={() => {
              stop();
              setWriting(true);
            }}
          >
            {said ? "Change the words" : "Write a title or caption"}
          </TextButton>
        )}
      </p>
    </div>
  );
}

interface WritingProps extends Pick<Schemas["PictureWords"], "title" | "caption"> {
  busy: boolean;
  onSave: (words: Form) => void;
  /** What its file says counts again. */
  onFile: (() => void) | undefined;
  inFile: Schemas["FileWords"] | null | undefined;
  onClose: () => void;
  children: React.ReactNode;
}

function Writing({ title, caption, busy, onSave, onFile, inFile, onClose, children }: WritingProps) {
  const [said, setSaid] = useState({ title, caption });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    onSave(said);
  };
  // What is being written is left by this key, and the picture stays.
  const press = (e: KeyboardEvent) => {
    if (e.key === "Escape") onClose();
  };
  return (
    <form onSubmit={submit} onKeyDown={press} className="mt-4">
      <Fields said={said} onChange={setSaid} />
      <p className="mt-2 mb-0 text-[13.5px] text-soft">The file itself is not changed. In a download, what you write here lies beside it (XMP).</p>
      {children}
      <div className="mt-3 flex flex-wrap items-center gap-2.5">
        <Button look="strong" type="submit" disabled={busy}>
          Save
        </Button>
        <Button onClick={onClose}>Cancel</Button>
      </div>
      {onFile && (
        <p className="mt-3 mb-0 text-[14px] break-words text-soft">
          {inFile ? `Its file says: “${[inFile.title, inFile.caption].filter(Boolean).join(": ").slice(0, 300)}”. ` : "Its file says nothing. "}
          <TextButton tone="soft" disabled={busy} onClick={onFile}>
            {inFile ? "Use that" : "Remove what was written"}
          </TextButton>
        </p>
      )}
    </form>
  );
}

interface Said {
  title: string;
  caption: string;
}

function Fields({ said, onChange, hint }: { said: Said; onChange: (said: Said) => void; hint?: string }) {
  const id = useId();
  return (
    <>
      <Field label="Title" dir="auto" maxLength={LONGEST.title} autoFocus value={said.title} onChange={(e) => onChange({ ...said, title: e.target.value })} />
      <label htmlFor={id} className="mt-3 mb-1 block text-[14px] font-semibold">
        Caption
      </label>
      <textarea
        id={id}
        dir="auto"
        rows={4}
        maxLength={LONGEST.caption}
        value={said.caption}
        onChange={(e) => onChange({ ...said, caption: e.target.value })}
        className="border-line bg-raised w-full rounded-lg border px-3 py-2 text-[16px] text-ink"
      />
      {hint && <p className="mt-1 mb-0 text-[13.5px] text-soft">{hint}</p>}
    </>
  );
}

/** Asks what is said about many pictures from now on. */
export function WordsOfMany({ pictures, onSave, onClose }: { pictures: number; onSave: (words: Form) => void; onClose: () => void }) {
  const [said, setSaid] = useState({ title: "", caption: "" });
  const empty = said.title.trim() === "" && said.caption.trim() === "";
  const submit = (e: FormEvent) => {
    e.preventDefault();
    onSave({ ...(said.title.trim() && { title: said.title }), ...(said.caption.trim() && { caption: said.caption }) });
  };
  return (
    <Dialog open onOpenChange={(open) => !open && onClose()} title={pictures === 1 ? "Words about one picture" : `Words about ${counted(pictures, "picture")}`}>
      <form onSubmit={submit}>
        <Fields said={said} onChange={setSaid} hint={`What you leave empty stays as it is. What you write replaces what ${pictures === 1 ? "it has" : "each of them has"}; the files themselves are not changed.`} />
        <div className="mt-4 flex justify-end gap-2.5">
          <Button onClick={onClose}>Cancel</Button>
          <Button look="strong" type="submit" disabled={empty}>
            Save
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
