import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { groupsOf, week } from "../api/reach";
import type { Device } from "../api/records";
import { LastEntries } from "../audit/last";
import { ReachSection } from "../reach/table";
import { Facts } from "../records/facts";
import { History } from "../records/history";
import { Combobox } from "../ui/combobox";
import { Busy } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { WeekStrip } from "../ui/strip";
import { t } from "../words";

/** DevicePage begins with who reaches a device, then where it belongs and what it is, then what happened. */
export function DevicePage({ row }: { row: Device }) {
  return (
    <>
      <ReachSection type="devices" id={row.id} />
      <div className="grid items-start gap-5 lg:grid-cols-2">
        <Groups device={row.id} />
        <Facts title={t("console.device.facts")} type="devices" row={row} />
        <DeviceWeek device={row.id} />
        <History type="devices" id={row.id} />
        <LastEntries filter={{ device: row.id }} />
      </div>
    </>
  );
}

/** Groups are those that a device is in, and why. */
function Groups({ device }: { device: string }) {
  const found = useQuery({ queryKey: ["groups", "devices", device], queryFn: () => groupsOf("devices", device) });
  if (!found.data) return <Busy />;
  return (
    <section className="sheet">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.types.device_groups")}</h2>
      <ul className="px-4 py-2">
        {found.data.map((b) => (
          <li key={b.group.id} className="py-0.5">
            <RecordLink type="device_groups" id={b.group.id} name={b.group.name} />{" "}
            <span className="text-[0.86rem] text-soft">{t(`console.device.why_${b.why}`, { group: b.through?.name ?? "" })}</span>
          </li>
        ))}
      </ul>
      {found.data.length === 0 && <p className="px-4 pb-3 text-soft">{t("console.device.no_groups")}</p>}
    </section>
  );
}

/** DeviceWeek is the week of a device for somebody who is chosen. */
function DeviceWeek({ device }: { device: string }) {
  const [user, setUser] = useState<string>();
  const found = useQuery({ queryKey: ["week", { device, user }], queryFn: () => week({ user, device }), enabled: user !== undefined, staleTime: 30_000 });
  return (
    <section className="sheet px-4 py-3">
      <h2 className="mb-2">{t("console.device.week")}</h2>
      <div className="mb-2 w-64">
        <Combobox label={t("console.device.week_of")} type="users" value={user} onChange={setUser} />
      </div>
      {user && found.data && (
        <WeekStrip days={found.data.days} zone={found.data.zone} lanes={found.data.rights.map((r) => ({ name: r.right.name, stretches: r.stretches }))} />
      )}
    </section>
  );
}
