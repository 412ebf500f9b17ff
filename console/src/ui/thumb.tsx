/** A small picture of an original in a list, blurred until it is there; a word where there is none. */
import { useMemo } from "react";
import { thumbHashToDataURL } from "thumbhash";
import { preview } from "./preview";

/** The blurred picture that stands in for one that is still coming. */
export function useBlur(placeholder: string | null | undefined): string | undefined {
  return useMemo(() => (placeholder ? thumbHashToDataURL(Uint8Array.from(atob(placeholder), (c) => c.charCodeAt(0))) : undefined), [placeholder]);
}

export function Thumb({ id, state, turned, placeholder, kind }: { id: string; state: string; turned: number; placeholder?: string | null | undefined; kind: string }) {
  const blur = useBlur(placeholder);
  return (
    <span
      className="relative flex h-[54px] w-[76px] shrink-0 items-center justify-center overflow-hidden rounded-[5px] text-[12.5px] text-soft"
      style={{ background: blur ? `center / cover url(${blur})` : "var(--line)" }}
    >
      {state === "ready" ? <img src={preview(id, turned)} alt="" loading="lazy" decoding="async" className="size-full object-cover" /> : !blur && kind}
      {kind === "video" && state === "ready" && <span className="absolute bottom-1 left-1 rounded bg-black/65 px-1 text-[11px] text-white">▶</span>}
    </span>
  );
}
