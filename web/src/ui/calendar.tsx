import { useState } from "react";
import { DayPicker } from "react-day-picker";
import { enGB, fr } from "react-day-picker/locale";
import { language } from "../session/language";
import { t } from "../words";

type Props = {
  /** day is YYYY-MM-DD. */
  day: string;
  onDay: (day: string) => void;
  clock?: string;
  onClock?: (clock: string) => void;
};

/** written is a day as records have it: YYYY-MM-DD. */
export const written = (d: Date) => `${d.getFullYear()}-${String(d.getMonth() + 1).padStart(2, "0")}-${String(d.getDate()).padStart(2, "0")}`;

/** How calendars name days and months, and with which day their weeks begin. */
export const habits = { locale: language() === "fr" ? fr : enGB, weekStartsOn: 1 } as const;

const hours = ["00:00", "06:00", "08:00", "12:00", "16:00", "18:00", "22:00"];

/** Calendar is a month to click a day in, and, where a time of day is wanted, clocks to click. */
export function Calendar({ day, onDay, clock, onClock }: Props) {
  const shown = new Date(`${day}T12:00:00`);
  const [month, setMonth] = useState(shown);
  return (
    <div className="flex flex-col gap-2">
      <DayPicker
        className="calendar"
        mode="single"
        required
        selected={shown}
        month={month}
        onMonthChange={setMonth}
        onSelect={(d) => onDay(written(d))}
        {...habits}
      />
      {onClock && (
        <div className="flex flex-wrap gap-1" role="group" aria-label={t("console.time.clock")}>
          {hours.map((h) => (
            <button
              key={h}
              type="button"
              aria-pressed={h === clock}
              className={`button px-1.5 py-0.5 ${h === clock ? "bg-sunk font-semibold" : "text-soft"}`}
              onClick={() => onClock(h)}
            >
              {h}
            </button>
          ))}
        </div>
      )}
    </div>
  );
}
