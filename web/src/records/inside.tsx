import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { list, titleOf } from "../api/records";
import { Busy } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { StateMark } from "../ui/state-mark";
import { t } from "../words";

const shown = 30;

/** Inside lists the devices of a site or a group. */
export function Inside({ filter, id, children }: { filter: "site" | "group"; id: string; children?: ReactNode }) {
  const inside = useQuery({ queryKey: ["inside", filter, id], queryFn: () => list("devices", { limit: shown, sort: "name", filter: { [filter]: id } }) });
  if (!inside.data) return <Busy />;
  return (
    <section className="sheet">
      <div className="flex items-center gap-3 border-b border-line px-4 py-2">
        <h2>{t("console.types.devices")}</h2>
        <span className="mr-auto text-soft tabular-nums">{inside.data.total}</span>
        {children}
      </div>
      {inside.data.total === 0 && <p className="px-4 py-3 text-soft">{t("console.empty.devices")}</p>}
      <ul className="grid gap-x-6 px-4 py-3 sm:grid-cols-3">
        {inside.data.items.map((d) => (
          <li key={d.id} className="truncate py-0.5">
            <RecordLink type="devices" id={d.id} name={titleOf(d)} />{" "}
            {(d.lockout || d.state !== "in-service") && <StateMark value={d.lockout ? "locked-out" : (d.state ?? "")} />}
          </li>
        ))}
      </ul>
      {inside.data.total > shown && (
        <p className="px-4 pb-3">
          <Link className="link" to={`/devices?${filter}=${encodeURIComponent(id)}`}>
            {t("console.all", { n: inside.data.total })}
          </Link>
        </p>
      )}
    </section>
  );
}
