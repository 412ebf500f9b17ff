/** Looking for pictures: one line of words, what it may become, and how it was understood, part by part. */
import { useEffect, useId, useRef, useState, type FormEvent, type KeyboardEvent, type ReactNode } from "react";
import { useFound } from "../api/hooks";
import type { Schemas } from "../api/client";
import { count, counted } from "../format";
import type { Among } from "./sheet";
import { Fault } from "./states";
import { Ways } from "./ways";

type Found = Schemas["Found"];

/** So long after the last key the line is asked for. */
const PAUSE = 180;

function useLater(text: string): string {
  const [later, setLater] = useState(text);
  // The outside system: the clock, which says when nobody types.
  useEffect(() => {
    const timer = setTimeout(() => setLater(text), PAUSE);
    return () => clearTimeout(timer);
  }, [text]);
  return later;
}

/** How many were found, as far as they were counted. */
const many = (n: number, most: number) => (n === 0 ? "No pictures" : n < most ? counted(n, "picture") : `${count(most)} pictures or more`);

/** `among`: what is looked for now, and where; `also`: what else can be done with the line. */
export function FindLine({ among, look, also }: { among: Among; look: (line: string) => void; also?: ReactNode }) {
  const { find, album } = among;
  const [line, setLine] = useState(find);
  const [shown, setShown] = useState(find);
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState(-1);
  const input = useRef<HTMLInputElement>(null);
  const list = useId();
  // What is looked for may change by other ways: a part that is left out, or back.
  if (shown !== find) {
    setShown(find);
    setLine(find);
    setOpen(false);
  }
  const typed = useLater(line.trim());
  const coming = useFound({ find: open ? typed : "", album }, true);
  const found = useFound(among, false);
  const suggestions = open && line.trim() !== "" && coming.data ? coming.data.suggestions : [];
  useSlash(input);
  const go = (to: string) => {
    setOpen(false);
    setChosen(-1);
    setLine(to);
    look(to.trim());
  };
  const submit = (e: FormEvent) => {
    e.preventDefault();
    go(suggestions[chosen]?.line ?? line);
  };
  const press = (e: KeyboardEvent<HTMLInputElement>) => {
    if (e.key === "Escape" && open) {
      e.stopPropagation();
      setOpen(false);
      setChosen(-1);
    }
    if (suggestions.length === 0 || (e.key !== "ArrowDown" && e.key !== "ArrowUp")) return;
    e.preventDefault();
    // Above the first one is the line as it was typed.
    setChosen((n) => ((n + (e.key === "ArrowDown" ? 2 : suggestions.length + 1)) % (suggestions.length + 1)) - 1);
  };
  return (
    <search className="relative mt-3 block max-w-[760px]">
      <form onSubmit={submit} className="flex items-stretch gap-2">
        <input
          ref={input}
          type="text"
          role="combobox"
          aria-label={album ? "Find pictures in this album" : "Find pictures"}
          aria-expanded={suggestions.length > 0}
          aria-controls={list}
          aria-autocomplete="list"
          aria-activedescendant={suggestions[chosen] && `${list}-${chosen}`}
          autoComplete="off"
          spellCheck={false}
          maxLength={500}
          placeholder="Days, names, places, kinds, cameras: summer 2024 videos"
          value={line}
          onChange={(e) => {
            setLine(e.target.value);
            setOpen(true);
            setChosen(-1);
          }}
          onBlur={() => setOpen(false)}
          onKeyDown={press}
          className="border-line bg-raised min-w-0 grow rounded-lg border px-3 py-2 text-[16px] text-ink placeholder:text-soft"
        />
        <button type="submit" className="border-line bg-raised rounded-lg border px-3.5 text-[15px] font-semibold text-ink hover:border-soft">
          Find
        </button>
        {!album && <Ways find={find} look={go} />}
      </form>
      {open && line.trim() !== "" && coming.data && <Coming id={list} found={coming.data} current={!coming.isPlaceholderData} suggestions={suggestions} chosen={chosen} go={go} />}
      {coming.isError && open && <Fault failure={coming.error} />}
      {find && found.isError && <Fault failure={found.error} again={() => void found.refetch()} />}
      {find && found.data && !found.isPlaceholderData && <Understood found={found.data} look={look} here={album ? "in this album" : "of yours"} also={also} />}
    </search>
  );
}

/** "/" leads to the line, wherever on the page one is. */
function useSlash(input: React.RefObject<HTMLInputElement | null>) {
  // The outside system: the keyboard.
  useEffect(() => {
    const press = (e: globalThis.KeyboardEvent) => {
      const writes = e.target instanceof HTMLElement && e.target.closest("input, textarea, select, [role=dialog], [role=alertdialog]");
      if (writes || e.key !== "/" || e.altKey || e.ctrlKey || e.metaKey) return;
      e.preventDefault();
      input.current?.focus();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [input]);
}

interface Next {
  id: string;
  found: Found;
  /** Whether it is of the line as it is now. */
  current: boolean;
  suggestions: Found["suggestions"];
  chosen: number;
  go: (line: string) => void;
}

/** What the line that is being typed finds, and what it may become. */
function Coming({ id, found, current, suggestions, chosen, go }: Next) {
  const means = found.parts.map((p) => p.told).join(", ");
  return (
    <div className="border-line bg-raised absolute inset-x-0 top-full z-30 mt-1 rounded-lg border p-1.5 shadow-md">
      <p role="status" className="m-0 px-2 py-1 text-[14.5px] text-soft">
        <b className="numbers font-semibold text-ink">{current ? many(found.count, found.most) : "Looking …"}</b>
        {current && means && `: ${means}`}
      </p>
      {suggestions.length > 0 && (
        <div id={id} role="listbox" tabIndex={-1} aria-label="What it may become">
          {suggestions.map((s, n) => (
            // biome-ignore lint/a11y/useKeyWithClickEvents: the keys of the line above choose it
            <div
              key={s.line}
              id={`${id}-${n}`}
              role="option"
              tabIndex={-1}
              aria-selected={n === chosen}
              // Before the line loses the focus, and with it this list.
              onMouseDown={(e) => e.preventDefault()}
              onClick={() => go(s.line)}
              className={`flex cursor-pointer items-baseline justify-between gap-4 rounded-md px-2 py-1.5 text-[15px] ${n === chosen ? "bg-paper text-ink" : "hover:bg-paper"}`}
            >
              <span className="min-w-0 truncate">{s.line}</span>
              <span className="numbers shrink-0 text-[14px] text-soft">{s.count < found.most ? count(s.count) : `${count(found.most)} +`}</span>
            </div>
          ))}
        </div>
      )}
    </div>
  );
}

/** What was looked for, part by part; each can be left out. */
function Understood({ found, look, here, also }: { found: Found; look: (line: string) => void; here: string; also: ReactNode }) {
  return (
    <div className="mt-2.5">
      <ul aria-label="What is looked for" className="m-0 flex list-none flex-wrap items-center gap-2 p-0">
        {found.parts.map((p) => (
          <li key={`${p.told} ${p.rest}`} className={`border-line bg-raised flex items-center rounded-lg border text-[15px] ${p.nothing ? "text-oxide" : "text-ink"}`}>
            <span className="max-w-[420px] truncate py-1 pl-3">{p.told}</span>
            <button type="button" aria-label={`Leave out: ${p.told}`} onClick={() => look(p.rest)} className="border-0 bg-transparent px-2.5 py-1 text-[17px] leading-none text-soft hover:text-ink">
              ×
            </button>
          </li>
        ))}
        <li>
          <button type="button" onClick={() => look("")} className="border-0 bg-transparent px-1 text-[15px] text-soft underline underline-offset-4 hover:text-ink">
            Show everything
          </button>
        </li>
        {also && <li>{also}</li>}
      </ul>
      {found.parts.some((p) => p.nothing) && (
        <p className="mt-2 mb-0 text-[15px]">
          Nothing {here} is: {found.parts.filter((p) => p.nothing).map((p) => p.told).join("; ")}. Leave it out to see the rest.
        </p>
      )}
      {found.unknown.length > 0 && (
        <p className="mt-2 mb-0 text-[15px]">
          Not looked for: {found.unknown.map((u) => `“${u.typed}” (${u.why})`).join(", ")}.
        </p>
      )}
    </div>
  );
}
