import type { Row } from "../api/records";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { ReadField } from "../ui/fields";
import { readClock } from "../ui/clock-field";
import { AddButton, Generated, TakeOut } from "../ui/form/generated";
import type { Form } from "../ui/form/use-record-form";
import { t } from "../words";
import { monthDayText } from "./text";
import { WeekField } from "./week-field";

type Schedule = Row<"schedules">;

/** ScheduleFields asks when something is open. */
export function ScheduleFields({ form }: { form: Form<"schedules"> }) {
  const { row, set } = form;
  return (
    <Generated
      form={form}
      own={{
        windows: <WeekField label={t("console.field.windows")} value={row.windows ?? []} onChange={(v) => set("windows", v)} />,
        season: <SeasonField value={row.season} onChange={(v) => set("season", v)} />,
        special: <SpecialField value={row.special ?? []} onChange={(v) => set("special", v)} />,
      }}
    />
  );
}

/** SeasonField is a part of every year; without both its ends there is none. */
function SeasonField({ value, onChange }: { value: Schedule["season"]; onChange: (v: Schedule["season"]) => void }) {
  if (!value) return <AddButton label={t("console.form.add_season")} onClick={() => onChange({ from: "04-01", to: "10-31" })} />;
  return (
    <fieldset className="flex items-end gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{t("console.field.season")}</legend>
      <MonthDayField label={t("console.field.from")} value={value.from} onChange={(from) => onChange({ ...value, from })} />
      <MonthDayField label={t("console.edit.to")} value={value.to} onChange={(to) => onChange({ ...value, to })} />
      <TakeOut name={t("console.field.season")} onClick={() => onChange(undefined)} />
    </fieldset>
  );
}

const two = (n: number) => String(n).padStart(2, "0");
const months = Array.from({ length: 12 }, (_, i) => two(i + 1));

/** daysIn is how many days a month can have. */
const daysIn = (month: string) => new Date(2028, Number(month), 0).getDate();

/** MonthDayField is a day of every year, written MM-DD. */
function MonthDayField({ label, value, onChange }: { label: string; value: string; onChange: (v: string) => void }) {
  const [month = "01", day = "01"] = value.split("-");
  const put = (m: string, d: string) => onChange(`${m}-${two(Math.min(Number(d), daysIn(m)))}`);
  return (
    <div className="flex flex-1 items-end gap-1">
      <div className="w-16">
        <Choose
          label={label}
          value={day}
          options={Array.from({ length: daysIn(month) }, (_, i) => ({ value: two(i + 1), label: String(i + 1) }))}
          onChange={(d) => put(month, d)}
        />
      </div>
      <div className="min-w-0 flex-1">
        <Choose
          label={t("console.form.month", { of: label })}
          hidden
          value={month}
          options={months.map((m) => ({ value: m, label: monthDayText(`${m}-01`).replace(/^1(er)?\s/, "") }))}
          onChange={(m) => put(m, day)}
        />
      </div>
    </div>
  );
}

type Special = NonNullable<Schedule["special"]>;

/** SpecialField gives the days of a calendar windows of their own, written 05:00–23:00; with none the day is closed. */
function SpecialField({ value, onChange }: { value: Special; onChange: (v: Special) => void }) {
  const set = (i: number, s: Partial<Special[number]>) => onChange(value.map((old, k) => (k === i ? { ...old, ...s } : old)));
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{t("console.field.special")}</legend>
      {value.map((s, i) => (
        <div key={i} className="flex items-start gap-2">
          <div className="min-w-0 flex-1">
            <Combobox label={t("console.type.calendars")} type="calendars" value={s.calendar} onChange={(v) => set(i, { calendar: v ?? "" })} />
          </div>
          <div className="min-w-0 flex-1">
            <ReadField
              label={t("console.field.windows")}
              hint="05:00–23:00"
              value={s.windows?.length ? s.windows : undefined}
              shown={(list) => list.map((w) => `${w.from}–${w.to}`).join(", ")}
              read={readWindows}
              onChange={(windows) => set(i, { windows })}
            />
          </div>
          <span className="pt-5">
            <TakeOut name={s.calendar || String(i + 1)} onClick={() => onChange(value.filter((_, k) => k !== i))} />
          </span>
        </div>
      ))}
      <AddButton label={t("console.edit.add")} onClick={() => onChange([...value, { calendar: "" }])} />
    </fieldset>
  );
}

function readWindows(text: string): { from: string; to: string }[] | { fault: string } {
  const out = [];
  for (const part of text.split(/[,;]/).filter((p) => p.trim())) {
    const [from = "", to = ""] = part.split(/[-–]/).map((c) => readClock(c.trim()));
    if (typeof from !== "string" || typeof to !== "string" || !to) return { fault: t("console.form.no_window", { text: part.trim() }) };
    out.push({ from, to });
  }
  return out;
}
