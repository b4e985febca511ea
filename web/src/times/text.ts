import { t } from "../words";

export type Window = { days?: string[]; from: string; to: string };

/** windowText writes a window: its days, and from when to when. */
export const windowText = (w: Window) => `${w.days?.map((d) => t(`console.day.${d}`)).join(" ") ?? t("console.every_day")} ${w.from}–${w.to}`;

/** spanText writes a season or dates; either end may be open. */
export const spanText = (v: { from?: string; to?: string }) => `${v.from ?? "…"} – ${v.to ?? "…"}`;
