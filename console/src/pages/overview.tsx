/** Five seconds, once a week: is everything safe? */
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Overview as House } from "../api/client";
import { useOverview } from "../api/hooks";
import { count, counted, size, until } from "../format";
import { filesOf, Ground } from "../ui/ground";
import { When } from "../ui/parts";
import { Fault, Waiting } from "../ui/states";
import { placesWords } from "./copies";

export function Overview({ keeper }: { keeper: boolean }) {
  const overview = useOverview();
  if (overview.isPending) return <Waiting what="the house" full />;
  if (overview.isError) return <div className="p-8"><Fault failure={overview.error} again={() => void overview.refetch()} /></div>;
  return <Drawn house={overview.data} keeper={keeper} />;
}

function Drawn({ house, keeper }: { house: House; keeper: boolean }) {
  const lamp = { well: "var(--turf)", busy: "var(--ochre)", setup: "var(--ochre)", look: "var(--ochre)", trouble: "var(--oxide)" }[house.state];
  const word = { well: "All well", busy: "Busy", setup: "Not set up", look: "Needs a look", trouble: "In trouble" }[house.state];
  return (
    <div className="px-8 py-[26px] max-lg:px-4 max-lg:py-5">
      <header aria-live="polite">
        <h1 className="m-0 flex items-baseline gap-3.5 text-[29px] leading-[1.2] max-sm:text-[23px]">
          <span
            role="img"
            aria-label={word}
            className="size-[14px] shrink-0 -translate-y-px rounded-full"
            style={{ background: house.state === "busy" ? "transparent" : lamp, border: `3px solid ${lamp}`, boxShadow: `0 0 0 5px color-mix(in srgb, ${lamp} 24%, transparent)` }}
          />
          {house.sentence}
        </h1>
        <p className="mt-1 mb-0 min-h-6 text-[16px] text-soft">{house.rest}</p>
      </header>
      <div className="mt-5 grid gap-x-7 gap-y-8 min-[1100px]:grid-cols-[minmax(0,1fr)_264px]">
        <Ground house={house} keeper={keeper} />
        <aside className="flex flex-col gap-6">
          <NeedsALook house={house} keeper={keeper} />
          <RightNow house={house} keeper={keeper} />
          {house.three_two_one ? <ThreeTwoOne rule={house.three_two_one} /> : <AwayFromHome house={house} />}
          <Section title="Space at home">
            <Item>
              {house.free_bytes == null ? "not known now" : `${size(house.free_bytes)} free for pictures`}
            </Item>
          </Section>
        </aside>
      </div>
    </div>
  );
}

/** The rule that no single mishap takes a picture, met by how many, and what the others need. */
function ThreeTwoOne({ rule }: { rule: NonNullable<House["three_two_one"]> }) {
  const short = rule.short.reduce((n, s) => n + s.amount.count, 0);
  return (
    <Section title="Three copies, in two kinds of place, one offsite">
      {rule.met.count === 0 && short === 0 && <Item>Nothing to copy yet.</Item>}
      {rule.met.count > 0 && (
        <Item>
          <span className="text-turf-text font-semibold">✓</span> {short === 0 ? `All ${counted(rule.met.count, "file")}` : counted(rule.met.count, "file")} {rule.met.count === 1 ? "has" : "have"} them
        </Item>
      )}
      {rule.short.slice(0, 3).map((s) => (
        <Item key={s.places.join()}>
          <Link to="/offsite/too-few" className="text-ink no-underline hover:underline">
            <span className="text-ochre-text">●</span> {count(s.amount.count)} {s.places.length === 0 ? "without a good copy" : `only ${placesWords(s.places)}`}
            <span className="block text-soft">{s.amount.count > 1 && "each "}{s.needs}</span>
          </Link>
        </Item>
      ))}
    </Section>
  );
}

function AwayFromHome({ house }: { house: House }) {
  return (
    <Section title="Offsite">
      {house.home.count === 0 ? (
        <Item>Nothing to copy yet.</Item>
      ) : (
        <>
          <Item>
            <span className="text-turf-text font-semibold">✓</span> {counted(house.offsite.count, "file")} {house.offsite.count === 1 ? "has" : "have"} a copy offsite
          </Item>
          {house.exposed.count > 0 && (
            <Item>
              <span className="text-ochre-text">●</span> {count(house.exposed.count)} {house.exposed.count === 1 ? "has" : "have"} none yet
            </Item>
          )}
        </>
      )}
    </Section>
  );
}

function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section>
      <h2 className="m-0 mb-2 font-sans text-[13px] font-semibold tracking-normal text-soft">{title}</h2>
      {children}
    </section>
  );
}

function Item({ children }: { children: ReactNode }) {
  return <div className="border-line border-t py-2.5 text-[14.5px]">{children}</div>;
}

function Warning({ title, text, to, action }: { title: string; text: ReactNode; to: string; action: string }) {
  return (
    <Item>
      <b className="block text-[15px] font-semibold">
        <span aria-hidden className="mr-2 inline-block size-[9px] rounded-full" style={{ background: "var(--ochre)" }} />
        {title}
      </b>
      <span className="text-soft">{text}</span>
      <Link to={to} className="border-line bg-raised mt-2 block w-fit rounded-lg border px-3 py-1 text-[14px] font-semibold text-ink no-underline hover:border-soft">
        {action}
      </Link>
    </Item>
  );
}

/** What is to be done about the recovery kit; nothing once it is printed and proven. */
const KIT: { [state: string]: [string, string] } = {
  missing: ["No recovery kit yet", "Without it, nobody can restore the pictures if this server is gone."],
  outdated: ["The recovery kit is out of date", "Keys or stores have changed since it was printed."],
  unproven: ["Do you have the recovery kit on paper?", "Type a part of it back from the printed sheet, to be sure."],
};

const WEEK = 7 * 86_400_000;

function NeedsALook({ house, keeper }: { house: House; keeper: boolean }) {
  const warnings: ReactNode[] = [];
  for (const s of house.stores) {
    if (s.state === "stopped") warnings.push(<Warning key={s.id} title={`Sending to ${s.name} has stopped`} text={s.reason} to="/offsite" action="See the store" />);
  }
  if (house.damaged > 0) {
    const text = "They cannot be read on the home disk as they were received. If a device or a store has a good copy, they are replaced.";
    warnings.push(<Warning key="damaged" title={`${counted(house.damaged, "file")} damaged or missing at home`} text={text} to={filesOf("damaged", keeper)} action="See which" />);
  }
  const kit = KIT[house.kit ?? ""];
  if (kit) warnings.push(<Warning key="kit" title={kit[0]} text={kit[1]} to="/offsite#key" action="Open the recovery kit" />);
  for (const d of house.devices) {
    if (d.waiting > 0 && !d.sending && d.seen_at && Date.now() - new Date(d.seen_at).getTime() > WEEK) {
      warnings.push(
        <Warning key={d.id} title={`${d.name} has not been heard of`} text={<>Last seen <When at={d.seen_at} />. {counted(d.waiting, "file")} still on it.</>} to={`/devices#${d.id}`} action="See the device" />,
      );
    }
  }
  if (house.failed_work > 0) {
    const text = "They were tried several times without success.";
    warnings.push(<Warning key="work" title={`${counted(house.failed_work, "task")} failed`} text={text} to="/activity" action="See why" />);
  }
  return warnings.length === 0 ? null : <Section title="Needs a look">{warnings}</Section>;
}

function RightNow({ house, keeper }: { house: House; keeper: boolean }) {
  const lines: ReactNode[] = [];
  if (house.coming.count > 0) {
    const all = house.home.count + house.coming.count;
    lines.push(
      <Item key="coming">
        <b className="block text-[15px] font-semibold">Being fetched from the stores</b>
        <span className="text-soft">
          {keeper ? <Link to={filesOf("coming", keeper)}>{counted(house.coming.count, "file")}</Link> : counted(house.coming.count, "file")}, {size(house.coming.bytes)} still to come
        </span>
        <div className="bg-line mt-2 h-2 overflow-hidden rounded" role="progressbar" aria-label="Fetched" aria-valuemin={0} aria-valuemax={all} aria-valuenow={house.home.count}>
          <div className="bg-accent h-full" style={{ width: `${(100 * house.home.count) / all}%` }} />
        </div>
      </Item>,
    );
  }
  for (const s of house.stores) {
    if (s.state === "sending" || s.rate > 0) {
      lines.push(
        <Item key={s.id}>
          <b className="block text-[15px] font-semibold">
            {s.name}
            {s.rate > 0 && `, ${size(s.rate)}/s`}
          </b>
          <span className="text-soft">{s.to_go.count > 0 ? `${counted(s.to_go.count, "file")}, ${size(s.to_go.bytes)} still to send` : "everything is sent"}</span>
        </Item>,
      );
    } else if (s.state === "failing") {
      lines.push(
        <Item key={s.id}>
          <b className="block text-[15px] font-semibold">{s.name} has a problem</b>
          <span className="text-soft">Next attempt {s.retry_at ? until(s.retry_at) : "soon"}. Nothing is lost.</span>
        </Item>,
      );
    }
  }
  for (const d of house.devices.filter((d) => d.sending)) {
    lines.push(
      <Item key={d.id}>
        <b className="block text-[15px] font-semibold">{d.name}</b>
        <span className="text-soft">
          sending, {count(d.home)} of {count(d.offered)} have arrived
        </span>
      </Item>,
    );
  }
  return <Section title="Right now">{lines.length === 0 ? <Item><span className="text-soft">Nothing is being sent.</span></Item> : lines}</Section>;
}
