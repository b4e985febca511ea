import { useQuery } from "@tanstack/react-query";
import { counts } from "../api/client";
import { get, membershipOf, type Membership } from "../api/records";
import { serviceNow } from "../session/clock";
import type { Ref } from "../ui/combobox";
import { distance } from "../ui/time";
import { t } from "../words";

/** Covers tells how many a choice stands for, as it is made: the devices of a site or a group, the people of a group and whose time in it ends. */
export function Covers({ of }: { of: Ref }) {
  switch (of.type) {
    case "sites":
    case "device_groups":
      return <Devices type={of.type} id={of.id} />;
    case "user_groups":
      return <Members id={of.id} />;
    default:
      return null;
  }
}

function Devices({ type, id }: { type: "sites" | "device_groups"; id: string }) {
  const found = useQuery({ queryKey: ["counts"], queryFn: counts, staleTime: 10_000 });
  if (!found.data) return null;
  return <span className="text-xs text-soft">{t("console.counted.devices", { count: found.data[type][id]?.all ?? 0 })}</span>;
}

function Members({ id }: { id: string }) {
  const found = useQuery({ queryKey: ["record", "user_groups", id], queryFn: () => get("user_groups", id), staleTime: 10_000 });
  if (!found.data) return null;
  const now = serviceNow();
  const members = (found.data.members ?? []).map(membershipOf).filter((m) => !m.until || new Date(m.until) > now);
  const ending = members.filter((m): m is Membership & { until: string } => m.until !== undefined).sort((a, b) => a.until.localeCompare(b.until));
  return (
    <span className="text-xs text-soft">
      {t("console.counted.people", { count: members.length })}
      {ending[0] && t("console.counted.ending", { count: ending.length, time: distance(ending[0].until, now) })}
    </span>
  );
}
