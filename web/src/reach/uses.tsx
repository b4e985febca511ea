import { useQuery } from "@tanstack/react-query";
import { uses } from "../api/reach";
import type { Type } from "../api/records";
import { Busy } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { DegreeMark, degrees } from "../ui/degree";
import { StateMark } from "../ui/state-mark";
import { number, t } from "../words";

/** Uses lists the lines of grants that make use of a record, and how much each comes to. */
export function Uses({ type, id }: { type: Type; id: string }) {
  const found = useQuery({ queryKey: ["uses", type, id], queryFn: () => uses(type, id) });
  if (!found.data) return <Busy />;
  return (
    <section className="sheet" data-uses>
      <h2 className="border-b border-line px-4 py-2.5">{t(`console.uses.${type}`)}</h2>
      {found.data.length === 0 && <p className="px-4 py-3 text-soft">{t("console.uses.none")}</p>}
      {found.data.length > 0 && (
        <div className="overflow-x-auto">
          <table className="w-full">
            <thead>
              <tr className="text-xs text-soft">
                {["type.grants", "field.effect", "reach.how", "field.rights", "types.users", "types.devices"].map((k, i) => (
                  <th key={k} scope="col" className={`px-4 py-2 ${i > 3 ? "text-right" : ""}`}>
                    {t(`console.${k}`)}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {found.data.map((u) => (
                <tr key={`${u.grant.id}/${u.line}`} className="border-t border-line/60 align-top">
                  <td className="px-4 py-1.5">
                    <RecordLink type="grants" id={u.grant.id} name={u.grant.name} />{" "}
                    <span className="text-soft">{t("console.uses.line", { n: u.line + 1 })}</span>
                    {!u.degree && <span className="text-breaks"> {t("console.uses.not_in_force")}</span>}
                  </td>
                  <td className="px-4 py-1.5">
                    <StateMark value={u.effect} />
                  </td>
                  <td className="px-4 py-1.5">
                    {u.degree && <DegreeMark degree={u.degree} />} <span className="text-soft">{u.text}</span>
                  </td>
                  <td className="px-4 py-1.5">{u.rights.join(", ")}</td>
                  <td className="px-4 py-1.5 text-right tabular-nums">
                    {degrees
                      .filter((d) => u.users[d] > 0)
                      .map((d) => `${number(u.users[d])} ${t(`console.degree.${d}`)}`)
                      .join(", ") || "0"}
                  </td>
                  <td className="px-4 py-1.5 text-right tabular-nums">{number(u.devices)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
