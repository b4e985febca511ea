import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { list, type Device, type Row } from "../api/client";
import { RecordLink } from "../ui/record-link";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column } from "../ui/table";
import { countColumn, idColumn, nameColumn, refColumn, textColumn } from "../ui/columns";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";
import { Many } from "./many";
import { Trees } from "./tree";

const device = (row: Row) => row as unknown as Device;

const columns: Column[] = [
  nameColumn("devices", "24%"),
  idColumn("19%"),
  { key: "kind", width: "13%", cell: (r) => kindOf(device(r)) },
  { key: "site", width: "15%", cell: (r) => siteOf(device(r)) },
  { key: "state", width: "14%", cell: (r) => <StateMark value={device(r).lockout ? "locked-out" : (device(r).state ?? "")} /> },
  { key: "tags", width: "14%", cell: (r) => <span className="text-soft">{device(r).tags?.join(", ")}</span> },
];

const kindOf = (d: Device) => d.kind && <RecordLink type="kinds" id={d.kind} />;
const siteOf = (d: Device) => (d.site ? <RecordLink type="sites" id={d.site} /> : <span className="text-soft">{t("console.unsorted")}</span>);

const tabs = [
  { to: "/devices", type: "devices" },
  { to: "/devices/groups", type: "device_groups" },
  { to: "/devices/sites", type: "sites" },
];

const lists: Record<string, Column[]> = {
  device_groups: [
    nameColumn("device_groups", "30%"),
    idColumn("20%"),
    refColumn("parent", "device_groups", "20%"),
    countColumn("devices", "10%"),
    { key: "match", width: "20%", cell: (r) => matchOf(r) },
  ],
  sites: [nameColumn("sites", "35%"), idColumn("25%"), refColumn("parent", "sites", "20%"), textColumn("zone", "20%")],
};

function matchOf(r: Row) {
  const m = (r.match ?? {}) as { kinds?: string[]; tags?: string[]; sites?: string[] };
  return [...(m.kinds ?? []), ...(m.tags ?? []), ...(m.sites ?? [])].join(", ");
}

/** Device groups, or sites. */
export function DeviceListPage({ type }: { type: "device_groups" | "sites" }) {
  return (
    <>
      <PlaceHead place="devices" type={type} tabs={tabs} />
      <RecordTable key={type} type={type} columns={lists[type] ?? []} />
    </>
  );
}

export function DevicesPage() {
  const kinds = useQuery({ queryKey: ["options", "kinds"], queryFn: () => list("kinds", { limit: 1000 }), staleTime: 30_000 });
  const named = (rows?: Row[]) => (rows ?? []).map((r) => ({ value: r.id, label: r.name ?? r.id }));
  const [picked, setPicked] = useState<string[]>([]);
  return (
    <>
      <PlaceHead place="devices" type="devices" tabs={tabs} />
      <div className="grid gap-5 lg:grid-cols-[13.5rem_minmax(0,1fr)]">
        <aside className="max-h-[calc(100vh-8rem)] overflow-auto max-lg:max-h-56" tabIndex={0} role="region" aria-label={t("console.types.sites")}>
          <Trees />
        </aside>
        <div className="min-w-0">
          {picked.length > 0 && <Many picked={picked} onDone={() => setPicked([])} />}
          <RecordTable
            type="devices"
            columns={columns}
            hidden={["site", "group"]}
            picked={picked}
            onPick={setPicked}
            filters={[
              { name: "kind", options: named(kinds.data?.items) },
              { name: "state", options: ["in-service", "maintenance", "retired"].map((v) => ({ value: v, label: t(`console.value.${v}`) })) },
            ]}
          />
        </div>
      </div>
    </>
  );
}
