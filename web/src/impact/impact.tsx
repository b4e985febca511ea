import type { Impact, PossibleRight } from "../api/reach";
import { DegreeMark, degrees } from "../ui/degree";
import { RecordLink } from "../ui/record-link";
import { number, t, timeFormat } from "../words";

/** ImpactView says who would gain and lose what by a change: mandates first, then what concerns control, in all three degrees. */
export function ImpactView({ impact, most = 8 }: { impact: Impact; most?: number }) {
  const nothing = impact.gained.all + impact.lost.all + impact.loosened.all + impact.tightened.all === 0;
  const rest = impact.more + Math.max(0, impact.items.length - most);
  return (
    <div className="mt-1" data-impact>
      {impact.mandates.map((m) => (
        <p key={`${m.user.id} ${m.mandate.id} ${m.gained}`} className="font-semibold">
          {t(m.gained ? "console.impact.mandate_gained" : "console.impact.mandate_lost", { user: m.user.name, role: t(`console.mandate.${m.role}`) })}
          <span className="font-normal text-soft">
            {" "}
            · {m.mandate.name}
            {m.degree === "later" && ` · ${from(m.until)}`}
            {m.degree === "if" && ` · ${t("console.impact.comes_in")}`}
          </span>
        </p>
      ))}
      {nothing && <p className="text-soft">{t("console.impact.none")}</p>}
      {!nothing && (
        <>
          <Counts sign="+" word="gained" of={impact.gained} />
          <Counts sign="−" word="lost" of={impact.lost} />
          <Counts sign="" word="looser" of={impact.loosened} />
          <Counts sign="" word="closer" of={impact.tightened} />
          <p className="text-soft">
            {t("console.impact.of", {
              users: t("console.counted.people", { count: impact.users }),
              devices: t("console.counted.devices", { count: impact.devices }),
            })}
          </p>
        </>
      )}
      <ul className="mt-1 text-[0.86rem]">
        {impact.items.slice(0, most).map((d) => (
          <li key={`${d.user.id} ${d.device.id}`} className="break-words">
            <RecordLink type="users" id={d.user.id} name={d.user.name} /> ·{" "}
            <RecordLink type="devices" id={d.device.id.split("/")[0] ?? ""} name={d.device.name} />
            {t("console.colon")}
            {d.gained?.map((r) => (
              <RightOf key={r.id} sign="+" right={r} />
            ))}
            {d.lost?.map((r) => (
              <RightOf key={r.id} sign="−" right={r} />
            ))}
            {d.loosened?.map((r) => (
              <LimitsOf key={r.id} looser right={r} />
            ))}
            {d.tightened?.map((r) => (
              <LimitsOf key={r.id} right={r} />
            ))}
          </li>
        ))}
      </ul>
      {rest > 0 && <p className="text-[0.86rem] text-soft">{t("console.impact.more", { n: number(rest) })}</p>}
    </div>
  );
}

function Counts({ sign, word, of }: { sign: string; word: "gained" | "lost" | "looser" | "closer"; of: Impact["gained"] }) {
  if (of.all === 0) return null;
  return (
    <p className="flex flex-wrap items-baseline gap-x-2 tabular-nums">
      <span className={`font-semibold ${word === "gained" || word === "looser" ? "text-holds" : "text-closes"}`}>
        {sign}
        {number(of.all)} {t(`console.impact.${word}`)}
      </span>
      {degrees
        .filter((d) => of[d] > 0)
        .map((d) => (
          <span key={d} className="inline-flex items-baseline gap-1">
            {number(of[d])} <DegreeMark degree={d} />
          </span>
        ))}
    </p>
  );
}

function RightOf({ sign, right }: { sign: string; right: PossibleRight }) {
  return <Changed gives={sign === "+"} text={sign + right.name} right={right} />;
}

function LimitsOf({ looser, right }: { looser?: boolean; right: PossibleRight & { limits: string } }) {
  return <Changed gives={!!looser} text={t("console.impact.limits", { right: right.name, limits: right.limits })} right={right} />;
}

function Changed({ gives, text, right }: { gives: boolean; text: string; right: PossibleRight }) {
  const later = right.degree === "later" || right.when === "later" ? right.until : undefined;
  return (
    <span className={`mr-1.5 ${gives ? "text-holds" : "text-closes"}`}>
      {text}
      {right.text && <span className="text-soft"> {right.text}</span>}
      {later && <span className="text-soft"> {from(later)}</span>}
    </span>
  );
}

/** from says from when something is so. */
function from(time: string) {
  return t("console.impact.from", { time: timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(time)) });
}
