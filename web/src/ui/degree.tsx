import { Circle, Clock3, CircleDashed } from "lucide-react";
import { t } from "../words";

/** The three degrees of what is possible, the nearest first. */
export const degrees = ["now", "later", "if"] as const;
export type Degree = (typeof degrees)[number];

const shapes = { now: Circle, later: Clock3, if: CircleDashed };

/** DegreeMark tells how possible something is: by a word, a shape and a colour. */
export function DegreeMark({ degree }: { degree: Degree }) {
  const Shape = shapes[degree];
  return (
    <span className={`inline-flex items-center gap-1 whitespace-nowrap ${degree === "now" ? "font-medium text-holds" : "text-soft"}`} data-degree={degree}>
      <Shape size={13} aria-hidden fill={degree === "now" ? "currentColor" : "none"} />
      {t(`console.degree.${degree}`)}
    </span>
  );
}

/** DegreeFilter chooses the degrees that are shown, each with how many it has. */
export function DegreeFilter({ chosen, totals, onChange }: { chosen: Degree[]; totals?: Record<Degree, number>; onChange: (v: Degree[]) => void }) {
  return (
    <div className="flex gap-1" role="group" aria-label={t("console.degree.choose")}>
      {degrees.map((d) => {
        const on = chosen.includes(d);
        return (
          <button
            key={d}
            type="button"
            aria-pressed={on}
            title={t(`console.degree.${d}_help`)}
            className={`button ${on ? "bg-sunk" : "border-dashed"}`}
            onClick={() => {
              const next = degrees.filter((x) => (x === d ? !on : chosen.includes(x)));
              onChange(next.length > 0 ? next : [...degrees]);
            }}
          >
            <DegreeMark degree={d} />
            {totals && on && <span className="tabular-nums">{totals[d]}</span>}
          </button>
        );
      })}
    </div>
  );
}
