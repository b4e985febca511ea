import type { Row, Window } from "../api/records";
import { t, timeFormat } from "../words";

/** days are the days of a week, as a schedule writes them. */
export const days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;

/** windowText writes a window: its days, and from when to when. */
export const windowText = (w: Window) => `${w.days?.map((d) => t(`console.day.${d}`)).join(" ") ?? t("console.every_day")} ${w.from}–${w.to}`;

/** monthDayText writes a day of every year, MM-DD, as people read it. */
export const monthDayText = (day: string) => timeFormat({ timeZone: "UTC", day: "numeric", month: "long" }).format(new Date(`2028-${day}T00:00:00Z`));

/** spanText writes a season or dates; either end may be open. */
export const spanText = (from: string | undefined, to: string | undefined, text: (day: string) => string) =>
  `${from ? text(from) : "…"} – ${to ? text(to) : "…"}`;

/** seasonText writes the part of every year in which a schedule holds. */
export const seasonText = (season: Row<"schedules">["season"]) => (season ? spanText(season.from, season.to, monthDayText) : "");
