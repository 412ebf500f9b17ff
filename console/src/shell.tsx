/** The frame around every page: where one is, who one is, and whether the server is there. */
import { useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";
import { NavLink, useNavigate } from "react-router";
import { ask, type Me } from "./api/client";
import { useOverview } from "./api/hooks";
import { useTheme, type Theme } from "./ui/theme";

export function Mark() {
  return (
    <svg viewBox="0 0 24 24" className="size-6" aria-hidden>
      <path d="M2 9h20" stroke="var(--turf)" strokeWidth="2.4" strokeLinecap="round" />
      <path d="M6 9v5a6 6 0 0 0 12 0V9" fill="none" stroke="var(--accent)" strokeWidth="2.4" />
      <circle cx="12" cy="4.2" r="1.9" fill="var(--ochre)" />
    </svg>
  );
}

const link = ({ isActive }: { isActive: boolean }) =>
  `relative flex items-center justify-between gap-3 px-[22px] py-[9px] no-underline max-lg:px-3 max-lg:py-2 max-sm:px-[6px] max-sm:text-[14px] whitespace-nowrap ${
    isActive
      ? "font-semibold text-ink before:absolute before:inset-y-2 before:left-0 before:w-1 before:rounded-r before:bg-accent max-lg:before:inset-x-2 max-lg:before:inset-y-auto max-lg:before:bottom-0 max-lg:before:h-[3px] max-lg:before:w-auto max-lg:before:rounded"
      : "text-soft hover:text-ink"
  }`;

export function Shell({ me, there, children }: { me: Me; there: boolean; children: ReactNode }) {
  const overview = useOverview();
  const keeper = me.role === "keeper";
  const troubled = overview.data?.stores.filter((s) => s.state === "stopped").length ?? 0;
  return (
    <div className="min-h-screen lg:grid lg:grid-cols-[196px_1fr]">
      <header className="border-line flex flex-col border-b lg:sticky lg:top-0 lg:h-screen lg:border-r lg:border-b-0">
        <div className="flex items-center justify-between px-[22px] pt-[18px] pb-3 max-lg:px-4 lg:pt-[22px] lg:pb-[26px]">
          <NavLink to="/" className="flex items-center gap-2.5 font-head text-[19px] font-semibold text-ink no-underline">
            <Mark />
            Ypogeion
          </NavLink>
          <div className="lg:hidden">
            <Who me={me} />
          </div>
        </div>
        <nav aria-label="Pages" className="flex flex-col max-lg:flex-row max-lg:overflow-x-auto max-lg:px-1">
          <NavLink to="/" end className={link}>
            Overview
          </NavLink>
          <NavLink to="/library" className={link}>
            Library
          </NavLink>
          <NavLink to="/albums" className={link}>
            Albums
          </NavLink>
          <NavLink to="/places" className={link}>
            Places
          </NavLink>
          <NavLink to="/devices" className={link}>
            <span>
              Devices<span className="max-lg:hidden">{keeper && " and people"}</span>
            </span>
          </NavLink>
          {keeper && (
            <NavLink to="/offsite" className={link}>
              Offsite
              {troubled > 0 && <span className="text-[13px] font-semibold text-oxide">
                  {troubled}
                  <span className="sr-only"> stopped</span>
                </span>}
            </NavLink>
          )}
          <NavLink to="/restore" className={link}>
            Restore
          </NavLink>
          <NavLink to="/activity" className={link}>
            Activity
          </NavLink>
          {keeper && (
            <NavLink to="/rules" className={link}>
              <span>
                <span className="max-sm:hidden">House r</span>
                <span className="sm:hidden">R</span>ules
              </span>
            </NavLink>
          )}
        </nav>
        <div className="border-line mt-auto border-t px-[22px] py-4 max-lg:hidden">
          <Who me={me} />
        </div>
      </header>
      <main className="min-w-0">
        {!there && (
          <p role="status" className="bg-ochre m-0 px-8 py-2 text-[15px] font-semibold text-[#1d1603] max-lg:px-4">
            The server does not answer. This page shows what was last known, and updates by itself when the server is back.
          </p>
        )}
        {children}
      </main>
    </div>
  );
}

function Who({ me }: { me: Me }) {
  const client = useQueryClient();
  const [theme, setTheme] = useTheme();
  const go = useNavigate();
  const signOut = async () => {
    await ask("/api/session", "DELETE");
    client.clear();
    location.assign("/");
  };
  const item = "cursor-default rounded px-3 py-2 text-[15px] outline-none select-none data-[highlighted]:bg-line/50";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="w-full border-0 bg-transparent p-0 text-left text-[14px] text-soft">
        <b className="block font-semibold text-ink max-lg:inline">{me.household}</b>
        <span className="max-lg:hidden">
          {me.name}, {me.role}
        </span>
        <span aria-hidden className="ml-1.5 text-[11px]">▾</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="start" sideOffset={8} className="border-line bg-raised z-50 min-w-48 rounded-[10px] border p-1.5 text-ink shadow-lg">
          <DropdownMenu.Label className="px-3 py-1.5 text-[13px] text-soft">
            Signed in as {me.name}
          </DropdownMenu.Label>
          <DropdownMenu.RadioGroup value={theme} onValueChange={(t) => setTheme(t as Theme)}>
            {(["system", "light", "dark"] as const).map((t) => (
              <DropdownMenu.RadioItem key={t} value={t} className={`${item} flex justify-between`}>
                {{ system: "Light or dark as the system", light: "Always light", dark: "Always dark" }[t]}
                <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
              </DropdownMenu.RadioItem>
            ))}
          </DropdownMenu.RadioGroup>
          <DropdownMenu.Separator className="bg-line my-1.5 h-px" />
          <DropdownMenu.Item className={item} onSelect={() => void go("/me")}>
            Your account
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => void signOut()}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
