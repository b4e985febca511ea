import { useQuery } from "@tanstack/react-query";
import { list, type Device, type Row } from "../api/client";
import { RecordLink } from "../ui/record-link";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column } from "../ui/table";
import { countColumn, idColumn, nameColumn, refColumn, textColumn } from "../ui/columns";
import { PlaceHead } from "../ui/tabs";
import { say } from "../words";

const device = (row: Row) => row as unknown as Device;

const columns: Column[] = [
  { key: "name", width: "22%", cell: (r) => <RecordLink type="devices" id={r.id} name={r.name} /> },
  { key: "id", width: "17%", cell: (r) => <span className="font-mono text-[0.86em] text-soft">{r.id}</span> },
  { key: "kind", width: "13%", cell: (r) => kindOf(device(r)) },
  { key: "site", width: "15%", cell: (r) => siteOf(device(r)) },
  { key: "state", width: "14%", cell: (r) => <StateMark value={device(r).lockout ? "locked-out" : (device(r).state ?? "")} /> },
  { key: "points", width: "7%", cell: (r) => <span className="tabular-nums">{device(r).points?.length || ""}</span> },
  { key: "tags", width: "12%", cell: (r) => <span className="text-soft">{device(r).tags?.join(", ")}</span> },
];

const kindOf = (d: Device) => d.kind && <RecordLink type="kinds" id={d.kind} />;
const siteOf = (d: Device) => (d.site ? <RecordLink type="sites" id={d.site} /> : <span className="text-soft">{say("console.unsorted")}</span>);

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
  const options = (type: string) => ({ queryKey: ["options", type], queryFn: () => list(type, { limit: 1000 }), staleTime: 30_000 });
  const kinds = useQuery(options("kinds"));
  const sites = useQuery(options("sites"));
  const named = (rows?: Row[]) => (rows ?? []).map((r) => ({ value: r.id, label: r.name ?? r.id }));
  return (
    <>
      <PlaceHead place="devices" type="devices" tabs={tabs} />
      <RecordTable
        type="devices"
        columns={columns}
        filters={[
          { name: "site", options: named(sites.data?.items) },
          { name: "kind", options: named(kinds.data?.items) },
          { name: "state", options: ["in-service", "maintenance", "retired"].map((v) => ({ value: v, label: say(`console.value.${v}`) })) },
        ]}
      />
    </>
  );
}
