import type { DeviceGroup } from "../api/records";
import { deviceTabs } from "../devices/tabs";
import { entriesColumn, idColumn, nameColumn, refColumn } from "../ui/columns";
import { RecordLinks } from "../ui/record-link";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";

const columns: Column<"device_groups">[] = [
  nameColumn("device_groups", "30%"),
  idColumn("20%"),
  refColumn("parent", "device_groups", "18%", (r) => r.parent),
  entriesColumn("devices", "10%"),
  { key: "match", width: "22%", cell: (r) => <Rule match={r.match} /> },
];

/** Rule says by what a group fills itself. */
export function Rule({ match, most = 2 }: { match: DeviceGroup["match"]; most?: number }) {
  const parts = [
    match?.kinds?.length && <RecordLinks type="kinds" ids={match.kinds} most={most} />,
    match?.tags?.length && match.tags.join(t("console.and")),
    match?.sites?.length && <RecordLinks type="sites" ids={match.sites} most={most} />,
  ].filter(Boolean);
  return parts.map((p, i) => (
    <span key={i}>
      {i > 0 && t("console.and")}
      {p}
    </span>
  ));
}

export function DeviceGroupListPage() {
  return (
    <>
      <PlaceHead place="devices" type="device_groups" tabs={deviceTabs} />
      <RecordTable type="device_groups" columns={columns} />
    </>
  );
}
