import { GivenTo } from "../grants/lines";
import { peopleTabs } from "../people/tabs";
import { idColumn, nameColumn, textColumn } from "../ui/columns";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";

const columns: Column<"mandates">[] = [
  nameColumn("mandates", "30%"),
  idColumn("25%"),
  textColumn("role", "15%", (r) => t(`console.mandate.${r.role}`)),
  { key: "to", width: "20%", unsorted: true, cell: (r) => <GivenTo to={r.to} /> },
  { key: "enabled", width: "10%", cell: (r) => <StateMark value={r.enabled ? "on" : "off"} /> },
];

export function MandateListPage() {
  return (
    <>
      <PlaceHead place="people" type="mandates" tabs={peopleTabs} />
      <RecordTable type="mandates" columns={columns} />
    </>
  );
}
