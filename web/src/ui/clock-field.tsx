import { t } from "../words";
import { ReadField } from "./fields";

/** ClockField is a time of day: 7, 7:30, 07:30, 7h30. value is HH:MM; 24:00 is the end of a day. */
export function ClockField({ label, value, onChange }: { label: string; value: string | undefined; onChange: (v: string | undefined) => void }) {
  return <ReadField label={label} hint="07:00" value={value} shown={(v) => v} read={readClock} onChange={onChange} />;
}

export function readClock(text: string): string | { fault: string } {
  const found = /^(\d{1,2})(?:[:h.](\d{2})?)?$/i.exec(text);
  const hour = Number(found?.[1]);
  const minute = Number(found?.[2] ?? "0");
  if (!found || minute > 59 || hour > 24 || (hour === 24 && minute > 0)) return { fault: t("console.form.no_clock", { text }) };
  return `${String(hour).padStart(2, "0")}:${String(minute).padStart(2, "0")}`;
}
