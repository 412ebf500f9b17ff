/** The menu of what else can be done with pictures. */
import { DropdownMenu } from "radix-ui";
import { useRef } from "react";
import { Button } from "../ui/parts";

interface MoreProps {
  disabled: boolean;
  mark: (favourite: boolean) => void;
  put?: (away: boolean) => void;
  turn?: (quarters: number) => void;
  write?: () => void;
  where?: () => void;
  when?: () => void;
  show?: () => void;
  isAway: boolean;
}

/** What else can be done with pictures. */
export function More({ disabled, mark, put, turn, write, where, when, show, isAway }: MoreProps) {
  // What asks something takes the keys there, and not back to this button: it is asked once the menu has gone.
  const asks = useRef<() => void>(undefined);
  const left = (e: Event) => {
    if (!asks.current) return;
    e.preventDefault();
    asks.current();
    asks.current = undefined;
  };
  const item = "cursor-default rounded px-3 py-2 text-[15px] outline-none select-none data-[highlighted]:bg-line/50";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild disabled={disabled}>
        <Button>
          More <span aria-hidden className="text-[11px]">▾</span>
        </Button>
      </DropdownMenu.Trigger>
        <DropdownMenu.Content onCloseAutoFocus={left} align="end" side="top" collisionPadding={8} sideOffset={8} className="border-line bg-raised z-50 min-w-48 rounded-[10px] border p-1.5 text-ink shadow-lg">
          <DropdownMenu.Item className={item} onSelect={() => mark(true)}>
            Make favourites
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => mark(false)}>
            Favourites no more
          </DropdownMenu.Item>
          {put && (
            <DropdownMenu.Item className={item} onSelect={() => put(!isAway)}>
              {isAway ? "Put back" : "Put away"}
            </DropdownMenu.Item>
          )}
          {turn &&
            ([["Turn right", 1] as const, ["Turn left", -1] as const]).map(([words, quarters]) => (
              <DropdownMenu.Item key={words} className={item} onSelect={() => turn(quarters)}>
                {words}
              </DropdownMenu.Item>
            ))}
          {[
            ["Title or caption …", write] as const,
            ["When they were taken …", when] as const,
            ["Where they were taken …", where] as const,
            ["Show to somebody outside …", show] as const,
          ].map(
            ([words, ask]) =>
              ask && (
                <DropdownMenu.Item
                  key={words}
                  className={item}
                  onSelect={() => {
                    asks.current = ask;
                  }}
                >
                  {words}
                </DropdownMenu.Item>
              ),
          )}
        </DropdownMenu.Content>
    </DropdownMenu.Root>
  );
}
