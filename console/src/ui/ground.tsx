/**
 * The section through the ground. Devices stand on the surface; home, offsite and proven lie below one another, each chamber
 * as wide as its share of what is at home. What has not sunk yet is drawn as grains at the chamber's end. Everything that is
 * drawn leads to the list behind it.
 */
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Device, Overview } from "../api/client";
import { ago, count, counted, size } from "../format";

const WAVES = {
  turf: "M0 7 C80 2 150 10 240 6 S400 3 500 7 640 10 760 5",
  clay: "M0 9 C110 3 190 15 310 8 S520 3 620 10 700 12 760 7",
  rock: "M0 7 C90 13 210 2 330 9 S540 14 640 6 710 4 760 9",
};

/** A row of the ground: its colour, its wavy upper edge (with grass on it at the surface), its pebbles. */
function Band({ colour, wave, grass = false, children }: { colour: string; wave: string; grass?: boolean; children: ReactNode }) {
  return (
    <div className="relative px-[9%] pt-7 pb-8 max-sm:px-3 max-sm:pt-5 max-sm:pb-5" style={{ background: colour }}>
      <svg aria-hidden viewBox="0 0 760 14" preserveAspectRatio="none" className="absolute inset-x-0 -top-[13px] h-[14px] w-full overflow-visible">
        <path d={`${wave} V14 H0Z`} fill={colour} />
        {grass && <path d={wave} fill="none" stroke="var(--turf)" strokeWidth="5" vectorEffect="non-scaling-stroke" strokeLinecap="round" />}
      </svg>
      <svg aria-hidden className="absolute inset-0 size-full" preserveAspectRatio="none" viewBox="0 0 760 180">
        {Array.from({ length: 26 }, (_, i) => (
          <ellipse key={i} cx={(i * 293) % 760} cy={14 + ((i * 71) % 152)} rx={1.5 + ((i * 7) % 5) * 0.8} ry={1 + ((i * 5) % 3) * 0.7} fill="#fff" opacity={0.05 + (i % 4) * 0.025} />
        ))}
      </svg>
      {children}
    </div>
  );
}

/** One grain for so many originals that at most 40 are drawn. */
function Grains({ n }: { n: number }) {
  const each = Math.max(1, Math.ceil(n / 40));
  return (
    <span aria-hidden className="mt-2 flex max-w-[92px] flex-wrap gap-[4px]">
      {Array.from({ length: Math.ceil(n / each) }, (_, i) => (
        <i key={i} className="size-[7px] rounded-full" style={{ background: "var(--grain)" }} />
      ))}
    </span>
  );
}

function Chamber({
  name,
  colour,
  n,
  of,
  line,
  to,
  rest,
}: {
  name: string;
  colour: string;
  n: number;
  of: number;
  line: string;
  to: string;
  rest?: { n: number; text: string; line?: string; to: string };
}) {
  const share = of === 0 ? 0 : n / of;
  // Drawn to tell: as wide as its share of what is at home, never too narrow for its number. What has not sunk shows as a
  // step, however small its share.
  const drawn = rest && n < of ? Math.min(share, 0.96) : share;
  const width = `max(216px, calc((100% - 152px) * ${drawn}))`;
  return (
    <div className="relative z-[2] flex items-center gap-4 max-sm:block">
      <Link
        to={to}
        className="block min-w-0 rounded-[24px] px-9 py-4 text-ink no-underline transition-[width] duration-700 hover:brightness-[1.03] max-sm:!w-auto max-sm:px-5"
        style={{ background: colour, width }}
      >
        <span className="block text-[16px] font-semibold">{name}</span>
        <span className="numbers block font-head text-[38px] leading-[1.15] font-medium">
          {count(n)}
          <span className="sr-only"> {n === 1 ? "file" : "files"}</span>
        </span>
        <span className="block text-[15.5px] text-soft">{line}</span>
      </Link>
      {rest && (
        <Link to={rest.to} className="relative min-w-[132px] shrink-0 rounded text-[15px] leading-snug text-white no-underline hover:underline max-sm:mt-3 max-sm:block max-sm:px-2">
          <b className="font-semibold">{rest.text}</b>
          {rest.line && <span className="block opacity-90">{rest.line}</span>}
          <Grains n={rest.n} />
        </Link>
      )}
    </div>
  );
}

const HOUR = 3_600_000;

const SHAPES: Record<string, [number, number]> = { phone: [20, 38], tablet: [30, 37], computer: [42, 31], other: [28, 28] };

function Standing({ device }: { device: Device }) {
  const [w, h] = SHAPES[device.kind] ?? [28, 28];
  // What is not here, whatever the reason: the list of devices says the same.
  const lacks =
    device.refused > 0
      ? `${count(device.refused)} refused`
      : device.unread > 0
        ? `${count(device.unread)} could not be read`
        : device.to_come > 0
          ? `${count(device.to_come)} still to send${device.seen_at && Date.now() - Date.parse(device.seen_at) > HOUR ? `, seen ${ago(device.seen_at)}` : ""}`
          : undefined;
  const waits = lacks !== undefined;
  const state = device.sending
    ? `sending, ${count(device.home)} of ${count(device.offered)}`
    : lacks
      ? lacks
      : device.has === 0
        ? "nothing sent yet"
        : `all sent${device.complete_at ? `, ${ago(device.complete_at)}` : ""}`;
  return (
    <Link to={`/devices#${device.id}`} className="flex min-w-0 items-end gap-2.5 rounded text-ink no-underline hover:underline">
      <svg aria-hidden width={w + 3} height={h + 3} className="shrink-0">
        <rect x="1.5" y="1.5" width={w} height={h} rx="4" fill="var(--paper-raised)" stroke={waits ? "var(--ochre)" : "var(--ink-soft)"} strokeWidth={waits ? 2.4 : 1.6} />
      </svg>
      <span className="min-w-0 pb-0.5 text-[14px] leading-[1.25]">
        <b className="block truncate text-[15px] font-semibold">{device.name}</b>
        <span className={waits ? "font-semibold text-ochre-text" : "text-soft"}>{state}</span>
      </span>
    </Link>
  );
}

/** Where the files are that a number counts: the keeper sees a list of the household's, everybody else their own pictures. */
export function filesOf(which: keyof typeof FOUND, keeper: boolean): string {
  return keeper ? `/offsite/files/${which}` : `/library${FOUND[which] ? `?find=${encodeURIComponent(FOUND[which])}` : ""}`;
}

/** As the library's line understands them. */
const FOUND = { home: "", offsite: "offsite", exposed: "no copy offsite", proven: "proven", unproven: "offsite not proven", damaged: "damaged at home", coming: "" };

export function Ground({ house, keeper }: { house: Overview; keeper: boolean }) {
  const stores = house.stores.map((s) => `${s.name} ${size(s.held.bytes)}`).join("; ");
  const unproven = house.offsite.count - house.proven.count;
  const moving = house.devices.some((d) => d.sending) || house.stores.some((s) => s.rate > 0);
  return (
    <figure className="m-0">
      <figcaption className="sr-only">
        Section through the ground: {counted(house.home.count, "file")} at home, {count(house.offsite.count)} offsite, {count(house.proven.count)} proven.
      </figcaption>
      <div className="relative z-[3] flex min-h-[62px] flex-wrap items-end gap-x-[22px] gap-y-3 pr-1 pb-[9px] pl-[5%] max-sm:px-3">
        {house.devices.length === 0 ? (
          <Link to="/devices" className="pb-2 text-[15px] font-semibold text-accent">
            No device yet. Pair the first one.
          </Link>
        ) : (
          house.devices.map((d) => <Standing key={d.id} device={d} />)
        )}
      </div>
      <div className="relative">
        <div aria-hidden className="absolute top-0 bottom-[120px] left-[9%] z-[1] w-[18px] rounded-full max-sm:hidden" style={{ background: "var(--loam-chamber)", opacity: 0.9 }}>
          {moving &&
            [0, 1, 2].map((i) => (
              <i key={i} className="sinking absolute left-[5px] size-2 rounded-full" style={{ background: "var(--ochre)", top: `${8 + i * 30}%`, animationDelay: `${i * 0.5}s` }} />
            ))}
        </div>
        <div>
          <Band colour="var(--loam)" wave={WAVES.turf} grass>
            <Chamber
              name="Home"
              colour="var(--loam-chamber)"
              n={house.home.count}
              of={house.home.count}
              line={house.home.count === 0 ? "nothing here yet" : `${size(house.home.bytes)} in plain folders`}
              to={filesOf("home", keeper)}
              rest={house.waiting.count > 0 ? { n: house.waiting.count, text: `${count(house.waiting.count)} still on devices`, line: size(house.waiting.bytes), to: "/devices" } : undefined}
            />
          </Band>
          <Band colour="var(--clay)" wave={WAVES.clay}>
            <Chamber
              name="Offsite"
              colour="var(--clay-chamber)"
              n={house.offsite.count}
              of={house.home.count}
              line={house.stores.length === 0 && keeper ? "no store yet" : stores || size(house.offsite.bytes)}
              to={keeper && house.stores.length === 0 ? "/offsite" : filesOf("offsite", keeper)}
              rest={
                house.exposed.count > 0
                  ? { n: house.exposed.count, text: `${count(house.exposed.count)} still to send`, line: house.exposed_since ? `oldest ${ago(house.exposed_since)}` : undefined, to: filesOf("exposed", keeper) }
                  : undefined
              }
            />
          </Band>
          <Band colour="var(--rock)" wave={WAVES.rock}>
            <Chamber
              name="Proven"
              colour="var(--rock-chamber)"
              n={house.proven.count}
              of={house.home.count}
              line={`read back and right, within ${house.proven_days} days`}
              to={filesOf("proven", keeper)}
              rest={unproven > 0 ? { n: unproven, text: `${count(unproven)} not read back lately`, to: filesOf("unproven", keeper) } : undefined}
            />
          </Band>
        </div>
      </div>
    </figure>
  );
}
