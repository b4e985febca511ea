import { Minus, Plus } from "lucide-react";
import { DayPicker } from "react-day-picker";
import type { SourceDays } from "../api/sources";
import { endsOf, holding, type Day } from "../calendars/year";
import { habits, written } from "../ui/calendar";
import { RecordLink } from "../ui/record-link";
import { dayText } from "../ui/time";
import { t } from "../words";

const within = (list: Day[], day: string) => holding(list, day) !== undefined;

/** Days shows the days of our calendars as a source would have them: which come, which go, and the months in which they lie. */
export function Days({ list }: { list: SourceDays[] }) {
  return list.map((c) => (
    <section key={c.calendar.id} className="border-t border-line px-4 py-3">
      <h3 className="mb-2 flex flex-wrap items-baseline gap-x-3">
        <RecordLink type="calendars" id={c.calendar.id} name={c.calendar.name} />
        <span className="font-normal text-soft">
          {t("console.source.days_of", {
            events: t("console.source.events", { count: c.events }),
            come: t("console.source.days", { count: c.comes.length }),
            go: t("console.source.days", { count: spread(c.goes).length }),
          })}
        </span>
      </h3>
      <div className="flex flex-col gap-3">
        <ul className="max-h-64 overflow-auto pr-2" tabIndex={0}>
          {[...c.days.map((d) => ({ d, goes: false })), ...c.goes.map((d) => ({ d, goes: true }))]
            .sort((a, b) => endsOf(a.d).first.localeCompare(endsOf(b.d).first))
            .map(({ d, goes }) => {
              const { first, last } = endsOf(d);
              const comes = !goes && spread([d]).some((day) => c.comes.includes(day));
              return (
                <li key={`${first} ${d.name ?? ""} ${goes}`} className="grid grid-cols-[5rem_1fr] gap-x-2 py-0.5">
                  <span className={comes ? "text-holds" : goes ? "text-breaks" : "text-soft"}>
                    {comes && <Plus size={13} aria-hidden className="mr-1 inline" />}
                    {goes && <Minus size={13} aria-hidden className="mr-1 inline" />}
                    {t(comes ? "console.source.day_comes" : goes ? "console.source.day_goes" : "console.source.day_stays")}
                  </span>
                  <span className={goes ? "line-through" : ""}>
                    {dayText(first)}
                    {last !== first && ` – ${dayText(last)}`} <span className="text-soft">{d.name}</span>
                  </span>
                </li>
              );
            })}
        </ul>
        <Months of={c} />
      </div>
    </section>
  ));
}

/** spread are the single days of some ranges. */
function spread(list: Day[]): string[] {
  return list.flatMap((d) => {
    const out: string[] = [];
    const { first, last } = endsOf(d);
    for (const at = new Date(`${first}T12:00:00`); written(at) <= last; at.setDate(at.getDate() + 1)) out.push(written(at));
    return out;
  });
}

const inMonth = (d: Date, month: string) => written(d).startsWith(month);

/** Months are the months in which anything lies: a day that comes is filled, one that goes is struck through, one that stays is framed. */
function Months({ of }: { of: SourceDays }) {
  const months = [...new Set([...of.days, ...of.goes].flatMap((d) => spread([d]).map((day) => day.slice(0, 7))))].sort();
  return (
    <div className="flex max-h-96 flex-wrap content-start gap-4 overflow-auto" aria-hidden inert>
      {months.map((m) => (
        <DayPicker
          key={m}
          className="calendar small"
          month={new Date(`${m}-01T12:00:00`)}
          hideNavigation
          disableNavigation
          {...habits}
          modifiers={{
            comes: (d) => inMonth(d, m) && of.comes.includes(written(d)),
            goes: (d) => inMonth(d, m) && within(of.goes, written(d)) && !within(of.days, written(d)),
            marked: (d) => inMonth(d, m) && within(of.days, written(d)) && !of.comes.includes(written(d)),
          }}
          modifiersClassNames={{ comes: "comes", goes: "goes", marked: "stays" }}
        />
      ))}
    </div>
  );
}
