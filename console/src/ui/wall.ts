/** Local times without a zone ("1987-07-14T15:00:21.5"): what a clock on the wall showed. */

/** To the minute, as a field for dates and times has it. */
export const forField = (local: string) => local.slice(0, 16);

const minutes = (local: string) => Date.parse(`${forField(local)}Z`) / 60_000;

/** By how many seconds what a field says is later than a local time, whole minutes apart; undefined: it says no time. */
export function later(local: string, said: string): number | undefined {
  const by = (minutes(said) - minutes(local)) * 60;
  return Number.isFinite(by) ? by : undefined;
}

/** How far apart two local times are, as people say it. */
export function apart(one: string, other: string): string {
  const n = Math.abs(minutes(one) - minutes(other));
  if (n < 1) return "in the same minute";
  const said = n < 90 ? [n, "minute"] as const : [Math.round(n / 60), "hour"] as const;
  return `${said[0]} ${said[1]}${said[0] === 1 ? "" : "s"} ${minutes(other) > minutes(one) ? "later" : "earlier"}`;
}
