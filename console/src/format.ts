/** Numbers, sizes and times as people say them, in their own zone. */

const whole = new Intl.NumberFormat("en-GB");
export const count = (n: number) => whole.format(n);
export const counted = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`;

export function size(bytes: number): string {
  const units = ["kB", "MB", "GB", "TB", "PB"];
  if (bytes < 1000) return bytes === 1 ? "1 byte" : `${bytes} bytes`;
  let value = bytes / 1000;
  let unit = 0;
  while (value >= 999.5 && unit + 1 < units.length) {
    value /= 1000;
    unit += 1;
  }
  return `${value < 9.95 ? value.toFixed(1) : value.toFixed(0)} ${units[unit]}`;
}

/** A sum with its currency. Below one unit the cents are told, above a hundred they are noise. */
export function money(n: number, currency: string): string {
  if (n > 0 && n < 0.005) return `below 0.01 ${currency}`.trim();
  const digits = n >= 100 ? 0 : 2;
  return `${new Intl.NumberFormat("en-GB", { minimumFractionDigits: digits, maximumFractionDigits: digits }).format(n)} ${currency}`.trim();
}

const exactly = new Intl.DateTimeFormat("en-GB", { dateStyle: "full", timeStyle: "medium" });
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long", year: "numeric" });
export const date = (iso: string) => day.format(new Date(iso));
export const exact = (iso: string) => exactly.format(new Date(iso));

export function ago(iso: string, now = Date.now()): string {
  const minutes = Math.floor((now - new Date(iso).getTime()) / 60_000);
  if (minutes < 1) return "just now";
  if (minutes < 120) return `${counted(minutes, "minute")} ago`;
  if (minutes < 2880) return `${counted(Math.floor(minutes / 60), "hour")} ago`;
  if (minutes < 14 * 1440) return `${counted(Math.floor(minutes / 1440), "day")} ago`;
  return day.format(new Date(iso));
}

/** In how long something will happen. */
export function until(iso: string, now = Date.now()): string {
  const seconds = Math.max(0, Math.round((new Date(iso).getTime() - now) / 1000));
  if (seconds < 90) return `in ${counted(seconds, "second")}`;
  if (seconds < 90 * 60) return `in ${counted(Math.round(seconds / 60), "minute")}`;
  if (seconds < 36 * 3600) return `in ${counted(Math.round(seconds / 3600), "hour")}`;
  return `in ${counted(Math.round(seconds / 86_400), "day")}`;
}

/** A time of day to come: "23:00" today and tomorrow's small hours, "Tue 23:00" within a week, a date after that. */
export function clock(iso: string, now = new Date()): string {
  const at = new Date(iso);
  const hours = at.getTime() - now.getTime() < 20 * 3_600_000;
  const week = at.getTime() - now.getTime() < 6 * 86_400_000;
  const time = { hour: "2-digit", minute: "2-digit" } as const;
  if (hours) return new Intl.DateTimeFormat("en-GB", time).format(at);
  if (week) return new Intl.DateTimeFormat("en-GB", { weekday: "short", ...time }).format(at);
  return new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long" }).format(at);
}

/** A local time without a zone ("2026-04-12T10:15:30"), shown as it stands: what a clock on the wall showed. */
export function wall(local: string): string {
  return new Intl.DateTimeFormat("en-GB", { dateStyle: "full", timeStyle: "short", timeZone: "UTC" }).format(new Date(`${local.slice(0, 19)}Z`));
}

const monthName = new Intl.DateTimeFormat("en-GB", { month: "long", year: "numeric", timeZone: "UTC" });
export const month = (ym: string) => monthName.format(new Date(`${ym}-01T00:00:00Z`));

export function duration(seconds: number): string {
  const s = Math.round(seconds);
  return `${Math.floor(s / 60)}:${String(s % 60).padStart(2, "0")}`;
}

/** "April 2026", "April to June 2026", "April 2019 to May 2026"; from local times of what was taken first and last. */
export function span(oldest: string, newest: string): string {
  const [from, to] = [oldest.slice(0, 7), newest.slice(0, 7)];
  if (from === to) return month(to);
  const first = from.slice(0, 4) === to.slice(0, 4) ? month(from).replace(/ \d+$/, "") : month(from);
  return `${first} to ${month(to)}`;
}

/** Whose something is. */
export const possessive = (name: string) => `${name}’s`;
