import { entriesColumn, idColumn, nameColumn, refsColumn } from "../ui/columns";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { peopleTabs } from "../people/tabs";

const columns: Column<"user_groups">[] = [
  nameColumn("user_groups", "28%"),
  idColumn("22%"),
  entriesColumn("members", "12%"),
  refsColumn("includes", "user_groups", "24%", (r) => r.includes),
  { key: "enabled", width: "14%", cell: (r) => <StateMark value={r.enabled ? "on" : "off"} /> },
];

export function GroupListPage() {
  return (
    <>
      <PlaceHead place="people" type="user_groups" tabs={peopleTabs} />
      <RecordTable type="user_groups" columns={columns} />
    </>
  );
}
