import { useRef, useState } from "react";
import type { Window } from "../api/records";
import { Choose } from "../ui/choose";
import { ClockField } from "../ui/clock-field";
import { AddButton, TakeOut } from "../ui/form/generated";
import { t } from "../words";
import { days } from "./text";

type Day = (typeof days)[number];

/** A day has 1,440 minutes. A pointer moves by quarters of an hour; what is dragged keeps its own minutes. */
const dayLong = 1440;
const step = 15;

type Drag = { day: number; from: number; to: number; grip: "new" | "from" | "to" | "all"; window?: number };

const wrap = (m: number) => ((m % dayLong) + dayLong) % dayLong;
const two = (n: number) => String(n).padStart(2, "0");
const clock = (m: number) => `${two(Math.floor(m / 60))}:${two(m % 60)}`;
const minutes = (text: string) => {
  const [h, m] = text.split(":").map(Number);
  return Number.isNaN((h ?? NaN) + (m ?? NaN)) ? 0 : (h ?? 0) * 60 + (m ?? 0);
};

/** daysOf are the days of a window; one that names none opens every day. */
const daysOf = (w: Window): Day[] => (w.days?.length ? w.days : [...days]);

/** likeDay makes some days open as another does. */
export function likeDay(windows: Window[], model: Day, others: readonly Day[]): Window[] {
  return windows
    .map((w) => {
      const has = daysOf(w);
      const next = days.filter((d) => (others.includes(d) ? has.includes(model) : has.includes(d)));
      return { ...w, days: next };
    })
    .filter((w) => w.days.length > 0)
    .map((w) => (w.days.length === days.length ? { ...w, days: undefined } : w));
}

/** bars gives the stretches of each day at which a window is open, in minutes; over midnight in two. */
function bars(windows: Window[]) {
  return windows.flatMap((w, i) => {
    const from = minutes(w.from);
    const to = minutes(w.to);
    return daysOf(w).flatMap((d) => {
      const day = days.indexOf(d);
      if (to > from) return [{ day, from, to, i, starts: true, ends: true }];
      return [
        { day, from, to: dayLong, i, starts: true, ends: false },
        { day: (day + 1) % 7, from: 0, to, i, starts: false, ends: true },
      ].filter((b) => b.to > b.from);
    });
  });
}

/** WeekField is a week: drag over a day to open a window, drag a window or one of its ends to move it, or type it below. */
export function WeekField({ label, value: windows, onChange }: { label: string; value: Window[]; onChange: (v: Window[]) => void }) {
  const [drag, setDrag] = useState<Drag>();
  const grid = useRef<SVGSVGElement>(null);
  const place = (e: React.PointerEvent) => {
    const box = grid.current?.getBoundingClientRect();
    if (!box) return { day: 0, q: 0 };
    const q = Math.round(((e.clientX - box.left) / box.width) * (dayLong / step)) * step;
    return { day: Math.max(0, Math.min(6, Math.floor(((e.clientY - box.top) / box.height) * 7))), q: Math.max(0, Math.min(dayLong, q)) };
  };
  const set = (i: number, w: Partial<Window>) => onChange(windows.map((old, k) => (k === i ? { ...old, ...w } : old)));
  const begin = (day: number, q: number): Drag => {
    // Near an end of a window it is that end which moves; elsewhere in one, all of it; outside, a new one is drawn.
    const bar = bars(windows).find((b) => b.day === day && q >= b.from - step && q <= b.to + step);
    const w = bar && windows[bar.i];
    if (!bar || !w) return { day, from: q, to: q, grip: "new" };
    const grip = Math.abs(q - bar.from) <= step && bar.starts ? "from" : Math.abs(q - bar.to) <= step && bar.ends ? "to" : "all";
    return { day, from: q, to: q, grip, window: bar.i };
  };
  /** dragged gives the windows as they would be if the drag ended at a quarter. */
  const dragged = (d: Drag): Window[] => {
    if (d.window === undefined) {
      const [from, to] = [Math.min(d.from, d.to), Math.max(d.from, d.to)];
      return to > from ? [...windows, { days: [days[d.day] ?? "mon"], from: clock(from), to: clock(to) }] : windows;
    }
    const by = d.to - d.from;
    return windows.map((w, i) => {
      if (i !== d.window || by === 0) return w;
      const from = minutes(w.from) + (d.grip === "to" ? 0 : by);
      const to = minutes(w.to) + (d.grip === "from" ? 0 : by);
      return { ...w, from: clock(wrap(from)), to: clock(to === dayLong ? to : wrap(to)) };
    });
  };
  const end = (last: number) => {
    if (!drag) return;
    const next = dragged({ ...drag, to: last });
    setDrag(undefined);
    if (next !== windows) onChange(next);
  };
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{label}</legend>
      <div className="grid grid-cols-[2.5rem_1fr] gap-x-1">
        <div className="grid text-xs text-soft" style={{ gridTemplateRows: "repeat(7, 24px)" }} aria-hidden>
          {days.map((d) => (
            <span key={d} className="self-center">
              {t(`console.day.${d}`)}
            </span>
          ))}
        </div>
        <svg
          ref={grid}
          data-week
          viewBox={`0 0 ${dayLong} 168`}
          preserveAspectRatio="none"
          className="h-[168px] w-full cursor-crosshair touch-none rounded-md bg-sunk"
          role="img"
          aria-label={t("console.edit.week")}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            const p = place(e);
            setDrag(begin(p.day, p.q));
          }}
          onPointerMove={(e) => drag && setDrag({ ...drag, to: place(e).q })}
          onPointerUp={(e) => end(place(e).q)}
        >
          {Array.from({ length: 7 }, (_, d) => (
            <line key={d} x1={0} x2={dayLong} y1={d * 24} y2={d * 24} stroke="var(--line)" strokeWidth={1} vectorEffect="non-scaling-stroke" />
          ))}
          {[360, 720, 1080].map((q) => (
            <line key={q} x1={q} x2={q} y1={0} y2={168} stroke="var(--line)" strokeWidth={1} vectorEffect="non-scaling-stroke" />
          ))}
          {bars(drag?.window !== undefined ? dragged(drag) : windows).map((b, k) => (
            <rect key={k} x={b.from} y={b.day * 24 + 4} width={b.to - b.from} height={16} rx={1} fill="var(--holds)" opacity={0.85} className="cursor-grab" />
          ))}
          {drag?.grip === "new" && (
            <rect x={Math.min(drag.from, drag.to)} y={drag.day * 24 + 4} width={Math.abs(drag.to - drag.from)} height={16} fill="var(--focus)" />
          )}
        </svg>
        <span />
        <div className="flex justify-between text-[0.7rem] text-soft" aria-hidden>
          {["00", "06", "12", "18", "24"].map((h) => (
            <span key={h}>{h}</span>
          ))}
        </div>
      </div>
      <Like windows={windows} onChange={onChange} />
      {windows.map((w, i) => (
        <div key={i} className="flex flex-wrap items-end gap-2">
          <div className="flex gap-0.5" role="group" aria-label={t("console.field.days")}>
            {days.map((d) => {
              const on = !w.days?.length || w.days.includes(d);
              return (
                <button
                  key={d}
                  type="button"
                  aria-pressed={on}
                  className={`button px-1.5 ${on ? "bg-sunk font-semibold" : "text-soft"}`}
                  onClick={() => {
                    const now = daysOf(w);
                    set(i, { days: days.filter((x) => (x === d ? !on : now.includes(x))) });
                  }}
                >
                  {t(`console.day.${d}`)}
                </button>
              );
            })}
          </div>
          <div className="w-24">
            <ClockField label={t("console.field.from")} value={w.from} onChange={(v) => set(i, { from: v ?? "" })} />
          </div>
          <div className="w-24">
            <ClockField label={t("console.edit.to")} value={w.to} onChange={(v) => set(i, { to: v ?? "" })} />
          </div>
          <TakeOut name={String(i + 1)} onClick={() => onChange(windows.filter((_, k) => k !== i))} />
        </div>
      ))}
      <AddButton label={t("console.edit.add_window")} onClick={() => onChange([...windows, { days: days.slice(0, 5), from: "08:00", to: "16:00" }])} />
    </fieldset>
  );
}

const week = ["mon", "tue", "wed", "thu", "fri"] as const;

/** Like copies a day to others. */
function Like({ windows, onChange }: { windows: Window[]; onChange: (v: Window[]) => void }) {
  const [model, setModel] = useState<Day>("mon");
  if (windows.length === 0) return null;
  return (
    <div className="flex flex-wrap items-end gap-2">
      <div className="w-28">
        <Choose
          label={t("console.week.like")}
          value={model}
          options={days.map((d) => ({ value: d, label: t(`console.day.${d}`) }))}
          onChange={(v) => setModel(days.find((d) => d === v) ?? "mon")}
        />
      </div>
      <button type="button" className="button" onClick={() => onChange(likeDay(windows, model, week))}>
        {t("console.week.to_week")}
      </button>
      <button type="button" className="button" onClick={() => onChange(likeDay(windows, model, days))}>
        {t("console.week.to_all")}
      </button>
    </div>
  );
}
