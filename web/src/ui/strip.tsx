import { serviceNow } from "../session/clock";
import { useState } from "react";
import type { Day, Stretch } from "../api/reach";
import { t, timeFormat } from "../words";
import { local } from "./time";

const ms = (instant: string) => new Date(instant).getTime();

/** clip gives the part of a stretch that lies in a time, as shares of it. */
function clip(s: Stretch, from: number, until: number) {
  const a = Math.max(ms(s.from), from);
  const b = Math.min(ms(s.until), until);
  return b > a ? { x: (a - from) / (until - from), width: (b - a) / (until - from) } : undefined;
}

const weekday = (day: Day, zone: string) =>
  timeFormat({ timeZone: zone, weekday: "short", day: "numeric", month: "short" }).format(new Date(day.from)).replace(",", "");

const span = (s: Stretch, zone: string) => `${local(s.from, zone)} – ${local(s.until, zone)}`;

/** Change marks a day on which the clock changes. */
export function Change({ day, zone }: { day: Day; zone: string }) {
  if (!day.change) return null;
  return (
    <span className="inline-block rounded-sm bg-focus/20 px-1.5 text-xs font-medium" title={local(day.change.at, zone)}>
      {t("console.times.clock_change", { before: day.change.before, after: day.change.after })}
    </span>
  );
}

/** DayRows draws days one below another, with what is open in each by its hours. */
export function DayRows({ days, stretches, zone }: { days: Day[]; stretches: Stretch[]; zone: string }) {
  return (
    <div className="flex flex-col gap-1">
      <div className="ml-[7.5rem] flex justify-between text-[0.72rem] text-soft tabular-nums" aria-hidden>
        {["00", "03", "06", "09", "12", "15", "18", "21", "24"].map((h) => (
          <span key={h}>{h}</span>
        ))}
      </div>
      {days.map((day) => {
        const open = stretches.filter((s) => s.allowed).flatMap((s) => ({ s, at: clip(s, ms(day.from), ms(day.until)) }));
        const shown = open.filter((o) => o.at);
        return (
          <div key={day.date} className="grid grid-cols-[7rem_1fr] items-center gap-2" data-day={day.date}>
            <span className="text-[0.86rem] tabular-nums">{weekday(day, zone)}</span>
            <svg
              viewBox="0 0 96 10"
              preserveAspectRatio="none"
              className="h-4 w-full rounded-sm bg-sunk"
              role="img"
              aria-label={shown.map((o) => span(o.s, zone)).join(", ") || t("console.closed")}
            >
              {[12, 24, 36, 48, 60, 72, 84].map((x) => (
                <line key={x} x1={x} x2={x} y1={0} y2={10} stroke="var(--line)" strokeWidth={1} vectorEffect="non-scaling-stroke" />
              ))}
              {shown.map((o, i) => (
                <rect key={i} x={(o.at?.x ?? 0) * 96} width={(o.at?.width ?? 0) * 96} y={1} height={8} fill="var(--holds)">
                  <title>{span(o.s, zone)}</title>
                </rect>
              ))}
            </svg>
            {day.change && (
              <span className="col-start-2">
                <Change day={day} zone={zone} />
              </span>
            )}
          </div>
        );
      })}
    </div>
  );
}

/** WeekStrip draws some days as one strip, with a lane for each right. */
export function WeekStrip({ days, lanes, zone }: { days: Day[]; lanes: { name: string; stretches: Stretch[] }[]; zone: string }) {
  const from = ms(days[0]?.from ?? "");
  const until = ms(days.at(-1)?.until ?? "");
  const share = (instant: string) => ((ms(instant) - from) / (until - from)) * 700;
  const [opened] = useState(() => serviceNow().getTime());
  const now = ((opened - from) / (until - from)) * 700;
  return (
    <div className="grid grid-cols-[9.5rem_1fr] gap-x-3 gap-y-1.5" data-strip>
      <span />
      <div className="grid text-xs text-soft tabular-nums" style={{ gridTemplateColumns: days.map((d) => `${ms(d.until) - ms(d.from)}fr`).join(" ") }}>
        {days.map((d) => (
          <span key={d.date} className="truncate border-l border-line pl-1">
            {weekday(d, zone)} <Change day={d} zone={zone} />
          </span>
        ))}
      </div>
      {lanes.map((lane) => {
        const open = lane.stretches.filter((s) => s.allowed);
        return (
          <div key={lane.name} className="contents">
            <span className="truncate text-right text-[0.9rem]" title={lane.name}>
              {lane.name}
            </span>
            <svg
              viewBox="0 0 700 20"
              preserveAspectRatio="none"
              className="h-[22px] w-full rounded-sm bg-sunk"
              role="img"
              aria-label={`${lane.name}: ${open.map((s) => span(s, zone)).join(", ") || t("console.check.not_this_week")}`}
            >
              {open.map((s, i) => (
                <rect key={i} x={share(s.from)} width={share(s.until) - share(s.from)} y={3} height={14} fill="var(--holds)">
                  <title>{span(s, zone)}</title>
                </rect>
              ))}
              {days.slice(1).map((d) => (
                <line
                  key={d.date}
                  x1={share(d.from)}
                  x2={share(d.from)}
                  y1={0}
                  y2={20}
                  stroke="var(--line)"
                  strokeWidth={1}
                  vectorEffect="non-scaling-stroke"
                />
              ))}
              {now > 0 && now < 700 && <line x1={now} x2={now} y1={0} y2={20} stroke="var(--focus)" strokeWidth={2} vectorEffect="non-scaling-stroke" />}
            </svg>
          </div>
        );
      })}
    </div>
  );
}
