import { useQuery } from "@tanstack/react-query";
import { mentions, type Listed } from "../api/records";
import { Busy } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { t } from "../words";

const shown = 40;

/** Mentioned lists what refers to a record. */
export function Mentioned({ type, id }: { type: Listed; id: string }) {
  const found = useQuery({ queryKey: ["mentions", type, id], queryFn: () => mentions(type, id) });
  if (!found.data) return <Busy />;
  const groups = Object.groupBy(found.data, (m) => m.type);
  return (
    <section className="sheet">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.mentioned")}</h2>
      {found.data.length === 0 && <p className="px-4 py-3 text-soft">{t("console.not_mentioned")}</p>}
      {Object.entries(groups).map(([by, list]) => {
        const unique = [...new Map((list ?? []).map((m) => [m.id, m])).values()];
        return (
          <div key={by} className="border-b border-line/60 px-4 py-2.5 last:border-0">
            <h3 className="mb-1 text-xs font-medium text-soft">{t(`console.types.${by}`)}</h3>
            <ul>
              {unique.slice(0, shown).map((m) => (
                <li key={m.id} className="truncate py-0.5">
                  <RecordLink type={m.type} id={m.id} name={m.name} />
                </li>
              ))}
            </ul>
            {unique.length > shown && <p className="text-soft">{t("console.and_more", { n: unique.length - shown })}</p>}
          </div>
        );
      })}
    </section>
  );
}
