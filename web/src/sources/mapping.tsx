import { Check, TriangleAlert } from "lucide-react";
import type { NewSource, SourceMatch, SourceProblem } from "../api/sources";
import { RecordLink } from "../ui/record-link";
import { number, t } from "../words";

/** Mapping is two columns: the groups there, and the groups here that they feed. What does not match comes first. */
export function Mapping({
  kind,
  matched,
  loose = [],
  take,
}: {
  kind: NewSource["kind"];
  matched: SourceMatch[];
  loose?: SourceMatch[];
  take?: (was: string, near: string) => void;
}) {
  const days = kind === "calendar";
  if (matched.length + loose.length === 0) return <p className="px-4 py-3 text-soft">{t(days ? "console.source.no_days" : "console.source.nothing_mapped")}</p>;
  return (
    <table className="w-full">
      <thead>
        <tr className="text-xs text-soft">
          <th scope="col" className="w-[38%] px-4 py-1.5">
            {t(days ? "console.source.events_there" : "console.source.there")}
          </th>
          <th scope="col" className="w-[30%] px-4 py-1.5">
            {t(days ? "console.source.calendar_here" : "console.source.here")}
          </th>
          <th scope="col" className="px-4 py-1.5 text-right">
            {t(days ? "console.source.times" : "console.field.members")}
          </th>
        </tr>
      </thead>
      <tbody>
        {matched.map((m) => (
          <tr key={`${m.outside} ${m.group?.id ?? m.calendar?.id ?? ""}`} className="border-t border-line/60 align-top">
            <td className="px-4 py-1.5">
              <span className={m.found ? "" : "font-semibold text-breaks"}>
                {m.found ? <Check size={14} aria-hidden className="mr-1 inline text-holds" /> : <TriangleAlert size={14} aria-hidden className="mr-1 inline" />}
                {m.outside}
              </span>
              {m.text && <p className="text-[0.86rem]">{m.text}</p>}
              {m.near && take && (
                <button type="button" className="button mt-1 print:hidden" onClick={() => take(m.outside, m.near ?? "")}>
                  {t("console.source.take_near", { name: m.near })}
                </button>
              )}
            </td>
            <td className="px-4 py-1.5">
              {m.group && (m.make ? m.group.name : <RecordLink type="user_groups" id={m.group.id} name={m.group.name} />)}
              {m.calendar && <RecordLink type="calendars" id={m.calendar.id} name={m.calendar.name} />}
              {m.rule && !m.calendar && <span className="ml-2 text-[0.86rem] text-soft">{t(m.make ? "console.source.made" : "console.source.by_rule")}</span>}
            </td>
            <td className="px-4 py-1.5 text-right tabular-nums">{m.found ? number(m.members) : "–"}</td>
          </tr>
        ))}
        {loose.map((m) => (
          <tr key={m.outside} className="border-t border-line/60 text-soft">
            <td className="px-4 py-1.5">{m.outside}</td>
            <td className="px-4 py-1.5">{t(days ? "console.source.gives_none" : "console.source.unmapped")}</td>
            <td className="px-4 py-1.5 text-right tabular-nums">{number(m.members)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Problems are what could not be done for single people and groups of a source. */
export function Problems({ list, more = 0 }: { list: SourceProblem[]; more?: number }) {
  if (list.length === 0) return null;
  return (
    <div className="border-t border-line px-4 py-2.5">
      <h3 className="font-semibold">{t("console.source.problems", { count: list.length + more })}</h3>
      <ul className="mt-1 max-h-72 overflow-auto text-[0.86rem]">
        {list.map((p) => (
          <li key={p.place + p.text} className="py-0.5 break-words">
            {p.text} <span className="text-soft">{p.place}</span>
          </li>
        ))}
      </ul>
      {more > 0 && <p className="text-soft">{t("console.impact.more", { n: number(more) })}</p>}
    </div>
  );
}
