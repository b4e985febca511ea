import { deviceTabs } from "../devices/tabs";
import { idColumn, nameColumn, refColumn, textColumn } from "../ui/columns";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";

const columns: Column<"sites">[] = [
  nameColumn("sites", "35%"),
  idColumn("25%"),
  refColumn("parent", "sites", "20%", (r) => r.parent),
  textColumn("zone", "20%", (r) => r.zone),
];

export function SiteListPage() {
  return (
    <>
      <PlaceHead place="devices" type="sites" tabs={deviceTabs} />
      <RecordTable type="sites" columns={columns} />
    </>
  );
}
