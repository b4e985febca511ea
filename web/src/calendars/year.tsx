import { ChevronLeft, ChevronRight } from "lucide-react";
import { memo, useCallback, useDeferredValue, useEffect, useRef, useState } from "react";
import { DayPicker } from "react-day-picker";
import type { Row } from "../api/records";
import { serviceNow } from "../session/clock";
import { habits, written } from "../ui/calendar";
import { dayText } from "../ui/time";
import { t } from "../words";

export type Day = NonNullable<Row<"calendars">["days"]>[number];

/** The ends of a day that differs, or of several: a single one is its own last. */
export const endsOf = (d: Day) => ({ first: d.date ?? d.from ?? "", last: d.date ?? d.to ?? "" });

const beside = (day: string, by: number) => {
  const d = new Date(`${day}T12:00:00`);
  d.setDate(d.getDate() + by);
  return written(d);
};
const spanOf = (first: string, last: string, name?: string): Day => (first === last ? { date: first, name } : { from: first, to: last, name });

/** holding is the entry that a day belongs to. */
export const holding = (days: Day[], day: string) => days.find((d) => endsOf(d).first <= day && day <= endsOf(d).last);

/** clicked are the days after one was clicked: one that is there goes, of several only this; one that is not there comes, with Shift all from the last one on. */
function clicked(days: Day[], day: string, since: string | undefined): Day[] {
  const found = holding(days, day);
  if (found) {
    const { first, last } = endsOf(found);
    const rest = [...(first < day ? [spanOf(first, beside(day, -1), found.name)] : []), ...(day < last ? [spanOf(beside(day, 1), last, found.name)] : [])];
    return days.flatMap((d) => (d === found ? rest : [d]));
  }
  if (since === undefined || since === day) return [...days, { date: day }];
  const [first, last] = since < day ? [since, day] : [day, since];
  // What was clicked before is an end of the range, and goes into it with its name.
  const began = days.find((d) => d.date === since);
  return [...days.filter((d) => d !== began), spanOf(first, last, began?.name)];
}

/** Months are the twelve of a year. To draw them takes longer than a key may: they are drawn anew only where their days are others, and after what is typed. */
const Months = memo(function Months({ year, marked, onDay }: { year: number; marked: string; onDay: (day: string, shift: boolean) => void }) {
  const days = JSON.parse(marked) as Day[];
  const labelOf = (day: string) => {
    const of = holding(days, day);
    return dayText(day) + (of ? `, ${of.name ?? t("console.year.marked")}` : "");
  };
  return (
    <DayPicker
      className="calendar year"
      numberOfMonths={12}
      month={new Date(year, 0, 1)}
      hideNavigation
      disableNavigation
      {...habits}
      modifiers={{ marked: (d) => holding(days, written(d)) !== undefined }}
      modifiersClassNames={{ marked: "marked" }}
      labels={{ labelDayButton: (d) => labelOf(written(d)) }}
      onDayClick={(d, _, e) => onDay(written(d), e.shiftKey)}
    />
  );
});

/** YearField is a year to click days in. */
export function YearField({ value, onChange }: { value: Day[]; onChange: (change: (days: Day[]) => Day[]) => void }) {
  const [year, setYear] = useState(() => serviceNow().getFullYear());
  const since = useRef<string>(undefined);
  const change = useRef(onChange);
  useEffect(() => {
    change.current = onChange;
  });
  const onDay = useCallback((day: string, shift: boolean) => {
    const from = shift ? since.current : undefined;
    since.current = day;
    change.current((days) => clicked(days, day, from));
  }, []);
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
      <Months year={year} marked={useDeferredValue(JSON.stringify(value))} onDay={onDay} />
    </div>
  );
}
