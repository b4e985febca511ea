import clsx from "clsx";
import { Link } from "react-router";
import type { Stop, Trail } from "../api/client";
import { t } from "../words";
import { recordPath } from "./record-link";

/** Sign is the shape of a state: a disc holds, a cross breaks, a barred square closes, a ring lies beyond. */
export function Sign({ state, size = 20 }: { state: string; size?: number }) {
  const colour = `var(--${state})`;
  return (
    <svg width={size} height={size} viewBox="0 0 20 20" aria-hidden className="relative z-10 shrink-0">
      {state === "holds" && (
        <>
          <circle cx="10" cy="10" r="8.5" fill={colour} />
          <path d="M6 10.4 9 13.2 14.2 7.4" fill="none" stroke="var(--sheet)" strokeWidth="2" strokeLinecap="round" strokeLinejoin="round" />
        </>
      )}
      {state === "breaks" && (
        <>
          <path d="M10 1.2 18.8 10 10 18.8 1.2 10Z" fill={colour} />
          <path d="M7.2 7.2 12.8 12.8M12.8 7.2 7.2 12.8" stroke="var(--sheet)" strokeWidth="2" strokeLinecap="round" />
        </>
      )}
      {state === "closes" && (
        <>
          <rect x="1.5" y="1.5" width="17" height="17" rx="2" fill={colour} />
          <path d="M5.5 10h9" stroke="var(--sheet)" strokeWidth="2.6" strokeLinecap="round" />
        </>
      )}
      {state === "beyond" && <circle cx="10" cy="10" r="7" fill="var(--sheet)" stroke={colour} strokeWidth="1.8" strokeDasharray="2.5 2.5" />}
    </svg>
  );
}

const linked = (stop: Stop) => stop.id && !["condition", "everyone", "everything"].includes(stop.type);

/** TrailView draws the way from a person to a device: each stop is named, is a link, and says why it holds. */
export function TrailView({ trail }: { trail: Trail }) {
  return (
    <ol className="trail" data-effect={trail.effect} aria-label={trail.text}>
      {trail.stops.map((stop, i) => (
        <li key={i} data-state={stop.state} className={clsx(stop.state === "beyond" && "text-soft")}>
          <div className="rail">
            <Sign state={stop.state} />
          </div>
          <div className="mt-1.5 text-[0.72rem] font-medium tracking-wide text-soft uppercase">{t(`console.type.${stop.type}`)}</div>
          <div className="leading-snug font-semibold break-words">
            {linked(stop) ? (
              <Link className="link text-inherit" to={recordPath(stop.type, (stop.id ?? "").split("/")[0] ?? "")}>
                {stop.name}
              </Link>
            ) : (
              stop.name
            )}
          </div>
          <div className="mt-0.5 text-[0.86rem] leading-snug">
            {stop.state !== "holds" && (
              <span className="font-semibold" style={{ color: `var(--${stop.state})` }}>
                {t(`console.state.${stop.state}`)}
                {t("console.colon")}
              </span>
            )}
            {stop.text}
          </div>
        </li>
      ))}
    </ol>
  );
}
