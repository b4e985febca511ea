import { useOrigins } from "../api/sources";
import { OriginNote } from "../sources/origin";
import { TextField } from "../ui/fields";
import { AddButton, Generated, TakeOut } from "../ui/form/generated";
import { changedIn } from "../ui/form/lists";
import type { Form } from "../ui/form/use-record-form";
import { DateField } from "../ui/time-field";
import { t } from "../words";
import { YearField, type Day } from "./year";

/** CalendarFields asks for days that differ from others. */
export function CalendarFields({ form }: { form: Form<"calendars"> }) {
  const id = form.isNew ? "" : form.row.id;
  const kept = useOrigins("calendars", id).length > 0;
  return (
    <>
      {id && <OriginNote type="calendars" id={id} />}
      <Generated
        form={form}
        wide={["days"]}
        elsewhere={kept ? ["days"] : []}
        own={{ days: <DaysField value={form.row.days ?? []} onChange={(change) => form.set("days", (days) => change(days ?? []))} /> }}
      />
    </>
  );
}

/** DaysField lists single days and ranges, each with what it is. A day without an end is a single one. */
function DaysField({ value, onChange }: { value: Day[]; onChange: (change: (days: Day[]) => Day[]) => void }) {
  /** put gives one of the days other ends, or another name. */
  const put = (i: number, part: { first?: string; last?: string; name?: string }) =>
    onChange((days) =>
      changedIn(days, i, value[i] ?? {}, (d) => {
        const { first, last, name } = { first: d.date ?? d.from, last: d.to, name: d.name, ...part };
        return { ...(last && last !== first ? { from: first, to: last } : { date: first }), name };
      }),
    );
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{t("console.field.days")}</legend>
      <YearField value={value} onChange={onChange} />
      {value.map((d, i) => {
        const first = d.date ?? d.from;
        return (
          <div key={i} className="flex items-end gap-2">
            <div className="w-44">
              <DateField label={t("console.edit.one_day")} value={first} onChange={(v) => put(i, { first: v })} />
            </div>
            <div className="w-44">
              <DateField label={t("console.form.last_day")} value={d.to} onChange={(v) => put(i, { last: v })} />
            </div>
            <div className="min-w-0 flex-1">
              <TextField label={t("console.field.name")} value={d.name ?? ""} onChange={(v) => put(i, { name: v })} />
            </div>
            <TakeOut name={d.name ?? first ?? String(i + 1)} onClick={() => onChange((days) => days.filter((_, k) => k !== i))} />
          </div>
        );
      })}
      <AddButton label={t("console.edit.add")} onClick={() => onChange((days) => [...days, {}])} />
    </fieldset>
  );
}
