import { ChevronLeft, ChevronRight } from "lucide-react";
import { useState } from "react";
import { DayPicker } from "react-day-picker";
import { enGB, fr } from "react-day-picker/locale";
import type { Row } from "../api/records";
import { serviceNow } from "../session/clock";
import { language } from "../session/language";
import { dayText } from "../ui/time";
import { t } from "../words";

export type Day = NonNullable<Row<"calendars">["days"]>[number];

/** The ends of a day that differs, or of several: a single one is its own last. */
const endsOf = (d: Day) => ({ first: d.date ?? d.from ?? "", last: d.date ?? d.to ?? "" });

const written = (d: Date) => `${d.getFullYear()}-${String(d.getMonth() + 1).padStart(2, "0")}-${String(d.getDate()).padStart(2, "0")}`;
const at = (day: string) => new Date(`${day}T12:00:00`);
const beside = (day: string, by: number) => {
  const d = at(day);
  d.setDate(d.getDate() + by);
  return written(d);
};
const spanOf = (first: string, last: string, name?: string): Day => (first === last ? { date: first, name } : { from: first, to: last, name });

/** clicked are the days after one was clicked: one that is there goes, of several only this; one that is not there comes, with Shift all from the last one on. */
export function clicked(days: Day[], day: string, since: string | undefined): Day[] {
  const holds = days.findIndex((d) => endsOf(d).first <= day && day <= endsOf(d).last);
  const found = days[holds];
  if (found) {
    const { first, last } = endsOf(found);
    const rest = [...(first < day ? [spanOf(first, beside(day, -1), found.name)] : []), ...(day < last ? [spanOf(beside(day, 1), last, found.name)] : [])];
    return [...days.slice(0, holds), ...rest, ...days.slice(holds + 1)];
  }
  if (since === undefined || since === day) return [...days, { date: day }];
  const [first, last] = since < day ? [since, day] : [day, since];
  // What was clicked before is an end of the range, and goes into it with its name.
  const began = days.find((d) => d.date === since);
  return [...days.filter((d) => d !== began), spanOf(first, last, began?.name)];
}

/** YearField is a year to click days in. */
export function YearField({ value, onChange }: { value: Day[]; onChange: (change: (days: Day[]) => Day[]) => void }) {
  const [year, setYear] = useState(() => serviceNow().getFullYear());
  const [since, setSince] = useState<string>();
  const nameOf = (d: Date) => value.find((x) => endsOf(x).first <= written(d) && written(d) <= endsOf(x).last)?.name;
  const marked = (d: Date) => value.some((x) => endsOf(x).first <= written(d) && written(d) <= endsOf(x).last);
  return (
    <div>
      <div className="mb-2 flex items-center gap-2">
        <button type="button" className="button px-2" aria-label={t("console.year.before", { year: year - 1 })} onClick={() => setYear(year - 1)}>
          <ChevronLeft size={15} aria-hidden />
        </button>
        <span className="w-12 text-center font-semibold tabular-nums" aria-live="polite">
          {year}
        </span>
        <button type="button" className="button px-2" aria-label={t("console.year.after", { year: year + 1 })} onClick={() => setYear(year + 1)}>
          <ChevronRight size={15} aria-hidden />
        </button>
        <span className="text-[0.86rem] text-soft">{t("console.year.how")}</span>
      </div>
      <DayPicker
        className="calendar year"
        numberOfMonths={12}
        month={new Date(year, 0, 1)}
        hideNavigation
        disableNavigation
        locale={language() === "fr" ? fr : enGB}
        weekStartsOn={1}
        modifiers={{ marked }}
        modifiersClassNames={{ marked: "marked" }}
        labels={{ labelDayButton: (d) => [dayText(written(d)), marked(d) ? (nameOf(d) ?? t("console.year.marked")) : ""].filter(Boolean).join(", ") }}
        onDayClick={(d, _, e) => {
          const day = written(d);
          const from = e.shiftKey ? since : undefined;
          setSince(day);
          onChange((days) => clicked(days, day, from));
        }}
      />
    </div>
  );
}
