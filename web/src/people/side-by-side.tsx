import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { wouldReach } from "../api/drafts";
import type { Edit } from "../api/edits";
import { RecordLink } from "../ui/record-link";
import { useDebounced } from "../ui/use-debounced";
import { number, t } from "../words";

/** SideBySide holds what somebody reaches against what they would: what they keep, and through what, before what they lose and gain. */
export function SideBySide({ user, edits, at }: { user: string; edits: Edit[]; at?: string }) {
  const asked = useDebounced(JSON.stringify(edits), 250);
  const found = useQuery({
    queryKey: ["would", user, asked, at],
    queryFn: () => wouldReach({ user, changes: JSON.parse(asked) as Edit[], at }),
    enabled: edits.length > 0 && asked !== "[]",
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  if (edits.length === 0 || !found.data) return null;
  return (
    <section aria-label={t("console.edit.side_by_side")} data-side-by-side>
      <table className="w-full text-[0.86rem]">
        <thead>
          <tr className="text-xs text-soft">
            <th scope="col">{t("console.edit.side_what")}</th>
            <th scope="col">{t("console.edit.side_now")}</th>
            <th scope="col">{t("console.edit.side_then")}</th>
          </tr>
        </thead>
        <tbody>
          {found.data.rows.map((r, i) => (
            <tr key={i} className="border-t border-line/60 align-top" data-change={r.change}>
              <th scope="row" className="py-1 pr-3 font-normal">
                <span className={r.change === "lost" ? "text-closes" : r.change === "gained" ? "text-holds" : "font-medium"}>
                  {t(`console.edit.side_${r.change}`)}
                </span>
                {t("console.colon")}
                {r.devices.map((d) => d.name).join(", ")}
                {r.count > r.devices.length && <> {t("console.and_more", { n: number(r.count - r.devices.length) })}</>}
                {r.through.length > 0 && (
                  <span className="block text-soft">
                    {t("console.edit.side_through")}{" "}
                    {r.through.map((x, k) => (
                      <span key={`${x.type}/${x.id}`}>
                        {k > 0 && " → "}
                        <RecordLink type={x.type} id={x.id} name={x.name} />
                      </span>
                    ))}
                  </span>
                )}
              </th>
              <td className="py-1 pr-3">{r.before.join(", ") || "–"}</td>
              <td className="py-1">{r.after.join(", ") || "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {found.data.rows.length === 0 && <p className="text-soft">{t("console.edit.side_none")}</p>}
      {found.data.more > 0 && <p className="text-soft">{t("console.and_more", { n: number(found.data.more) })}</p>}
    </section>
  );
}
