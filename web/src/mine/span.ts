import { t } from "../words";

/** spanText is a time in words, in the largest unit that it is whole in. */
export function spanText(minutes: number) {
  if (minutes % (24 * 60) === 0) return t("console.mine.days", { count: minutes / (24 * 60) });
  if (minutes % 60 === 0) return t("console.mine.hours", { count: minutes / 60 });
  return t("console.mine.minutes", { count: minutes });
}

const usual = [30, 60, 2 * 60, 4 * 60, 8 * 60, 12 * 60, 24 * 60, 3 * 24 * 60, 7 * 24 * 60, 14 * 24 * 60, 30 * 24 * 60];

/** spans are the times that one can choose among, up to the longest that is allowed. */
export function spans(most: number) {
  return [...new Set([...usual.filter((m) => m < most), most])].map((m) => ({ value: String(m), label: spanText(m) }));
}
