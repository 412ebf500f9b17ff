/** Ways to look at the library: each adds its words to the line, and says before how many pictures that leaves. */
import { useQueries } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { ask, type Schemas } from "../api/client";
import { keys, useDevices, useMe } from "../api/hooks";
import { count } from "../format";

/** As the line understands them. */
const KINDS = ["photos", "videos", "raw files", "screenshots"];
const MARKS = ["came lately", "favourites", "put away"];
const COPIES = ["no copy offsite", "damaged at home"];
/** More devices are asked for by typing a part of their names. */
const MOST = 8;

/** `find`: what is looked for now. */
export function Ways({ find, look }: { find: string; look: (line: string) => void }) {
  const [open, setOpen] = useState(false);
  const navigate = useNavigate();
  const me = useMe();
  const devices = useDevices();
  const own = (devices.data ?? []).filter((d) => d.person === me.data?.id && !d.revoked_at).slice(0, MOST);
  const groups: [string, string[]][] = [
    ["Kinds", KINDS],
    ["Yours", MARKS],
    ["Copies", COPIES],
    ["Sent by", own.map((d) => d.name)],
  ];
  const with_ = (words: string) => `${find} ${words}`.trim();
  const lines = groups.flatMap(([, all]) => all);
  const counted = useQueries({
    queries: lines.map((words) => ({
      queryKey: [...keys.found({ find: with_(words) }), "false"],
      queryFn: () => ask<Schemas["Found"]>(`/api/find?suggest=false&line=${encodeURIComponent(with_(words))}`),
      enabled: open,
    })),
  });
  const many = new Map(lines.map((words, n) => [words, counted[n]?.data]));
  return (
    <DropdownMenu.Root open={open} onOpenChange={setOpen} modal={false}>
      <DropdownMenu.Trigger className="border-line bg-raised shrink-0 rounded-lg border px-3.5 text-[15px] font-semibold text-ink hover:border-soft max-sm:px-2.5">
        Ways<span className="max-sm:sr-only"> to look</span>{" "}
        <span aria-hidden className="text-[11px]">
          ▾
        </span>
      </DropdownMenu.Trigger>
      {/* Where it is: within what a screen reader knows as the place to look for pictures. */}
      <DropdownMenu.Content align="end" sideOffset={6} collisionPadding={8} className="border-line bg-raised z-50 max-h-(--radix-dropdown-menu-content-available-height) min-w-[264px] overflow-y-auto rounded-[10px] border p-1.5 text-ink shadow-lg">
          {groups
            .filter(([, all]) => all.length > 0)
            .map(([name, all]) => (
              <DropdownMenu.Group key={name}>
                <DropdownMenu.Label className="px-3 pt-2 pb-1 text-[13px] font-semibold text-soft">{name}</DropdownMenu.Label>
                {all.map((words) => {
                  const found = many.get(words);
                  const none = found?.count === 0;
                  return (
                    <DropdownMenu.Item
                      key={words}
                      disabled={none}
                      onSelect={() => look(with_(words))}
                      className="flex cursor-default items-baseline justify-between gap-6 rounded px-3 py-1.5 text-[15px] outline-none select-none data-[disabled]:text-soft data-[highlighted]:bg-line/50"
                    >
                      <span className="min-w-0 truncate">{name === "Sent by" ? words : `${words[0]?.toUpperCase()}${words.slice(1)}`}</span>
                      <span className="numbers shrink-0 text-[14px] text-soft">{found ? (found.count < found.most ? count(found.count) : `${count(found.most)} +`) : "…"}</span>
                    </DropdownMenu.Item>
                  );
                })}
              </DropdownMenu.Group>
            ))}
          <DropdownMenu.Separator className="border-line my-1.5 border-t" />
          <DropdownMenu.Item onSelect={() => void navigate("/folders")} className="cursor-default rounded px-3 py-1.5 text-[15px] outline-none select-none data-[highlighted]:bg-line/50">
            By folders, as on the disk
          </DropdownMenu.Item>
      </DropdownMenu.Content>
    </DropdownMenu.Root>
  );
}
