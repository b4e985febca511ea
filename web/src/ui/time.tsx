import { t, timeFormat } from "../words";

/** local writes an instant by the clock of a zone. */
export function local(instant: string, zone: string) {
  return timeFormat({
    timeZone: zone || "UTC",
    weekday: "short",
    day: "numeric",
    month: "short",
    year: "numeric",
    hour: "2-digit",
    minute: "2-digit",
    hourCycle: "h23",
  })
    .format(new Date(instant))
    .replaceAll(",", "");
}

/** distance writes how far an instant lies from another: in 3 h 20 min. */
export function distance(instant: string, from: Date) {
  const minutes = Math.round((new Date(instant).getTime() - from.getTime()) / 60_000);
  const whole = Math.abs(minutes);
  const ahead = whole < 1440 ? whole : Math.round(whole / 60) * 60; // of days, hours are near enough: in 2 weeks is in 14 d
  if (ahead === 0) return t("console.time.now");
  const days = Math.floor(ahead / 1440);
  const hours = Math.floor((ahead % 1440) / 60);
  const parts =
    days > 0
      ? [t("console.time.days", { n: days }), hours > 0 && t("console.time.hours", { n: hours })]
      : [hours > 0 && t("console.time.hours", { n: hours }), (hours === 0 || ahead % 60 > 0) && t("console.time.minutes", { n: ahead % 60 })];
  const text = parts.filter(Boolean).join(" ");
  return t(minutes < 0 ? "console.time.ago" : "console.time.in", { text });
}

export function Instant({ at, zone, from }: { at: string; zone: string; from?: Date }) {
  return (
    <time dateTime={at} title={at} className="tabular-nums">
      <span className="whitespace-nowrap">{local(at, zone)}</span> <span className="whitespace-nowrap text-soft">{zone}</span>
      {from && <span className="block text-soft">{distance(at, from)}</span>}
    </time>
  );
}

/** dayText writes a day, YYYY-MM-DD, as people read it. */
export const dayText = (day: string) =>
  timeFormat({ timeZone: "UTC", weekday: "short", day: "numeric", month: "short", year: "numeric" })
    .format(new Date(`${day}T00:00:00Z`))
    .replaceAll(",", "");
