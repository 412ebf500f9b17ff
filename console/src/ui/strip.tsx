/** Some pictures in a row that is moved sideways, as high as they are given room. */
import { Link } from "react-router";
import type { OriginalCard } from "../api/client";
import { preview } from "./preview";
import { addressOf, shown, type Among } from "./sheet";

interface StripProps {
  among: Among;
  pictures: readonly OriginalCard[];
  height: number;
  /** What stands on a picture, beside the one before it. */
  mark?: (picture: OriginalCard, before: OriginalCard | undefined) => string | undefined;
}

export function Strip({ among, pictures, height, mark }: StripProps) {
  return (
    <ul className="m-0 flex list-none gap-1.5 overflow-x-auto p-0 pb-1 [scrollbar-color:var(--line)_transparent] [scrollbar-width:thin]">
      {pictures.map((p, n) => {
        const said = mark?.(p, pictures[n - 1]);
        return (
          <li key={p.id} className="relative shrink-0" style={{ height, width: shown(p.width, p.height) * height }}>
            <Link to={addressOf(among, { picture: p.id })} state={{ sheet: true }} className="block size-full overflow-hidden rounded-[5px] bg-(--line)">
              {p.preview === "ready" ? (
                <img src={preview(p.id, p.turned)} alt={`${p.name}, ${p.taken_local.slice(0, 4)}`} loading="lazy" decoding="async" className="size-full object-cover" />
              ) : (
                <span className="block truncate p-2 text-[13px] text-ink">{p.name}</span>
              )}
            </Link>
            {said && (
              <span aria-hidden className="pointer-events-none absolute bottom-1.5 left-1.5 rounded bg-black/65 px-1.5 text-[12.5px] font-semibold text-white">
                {said}
              </span>
            )}
          </li>
        );
      })}
    </ul>
  );
}
