import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { audit, type AuditFilter } from "../api/audit";
import { serviceNow } from "../session/clock";
import { useWhole } from "../session/mandates";
import { Section, listLook } from "../today/section";
import { Busy } from "../ui/notice";
import { distance, local } from "../ui/time";
import { useZone } from "../ui/time-field";
import { t } from "../words";

const shown = 10;

/** LastEntries are the last entries of the record about a person or a device, for whoever sees the policy as a whole. */
export function LastEntries({ filter }: { filter: AuditFilter }) {
  return useWhole() ? <Known filter={filter} /> : null;
}

function Known({ filter }: { filter: AuditFilter }) {
  const zone = useZone({});
  const now = serviceNow();
  const found = useQuery({ queryKey: ["audit", "last", filter], queryFn: () => audit({ ...filter, limit: shown }) });
  if (!found.data) return <Busy />;
  return (
    <Section title={t("console.record.of_person")}>
      <ol className={listLook}>
        {found.data.items.map((e) => (
          <li key={e.entry} className="flex items-baseline gap-3">
            <span className="min-w-0 flex-1">{e.text}</span>
            <span className="text-right text-[0.86rem] text-soft tabular-nums" title={`${local(e.at, zone)} ${zone}`}>
              {e.by ? `${e.by.name}, ` : ""}
              {distance(e.at, now)}
            </span>
          </li>
        ))}
      </ol>
      {found.data.items.length === 0 ? (
        <p className="px-4 py-3 text-soft">{t("console.record.none")}</p>
      ) : (
        <p className="px-4 pb-3 print:hidden">
          <Link className="link" to={`/record?${new URLSearchParams(filter as Record<string, string>).toString()}`}>
            {t("console.record.all")}
          </Link>
        </p>
      )}
    </Section>
  );
}
