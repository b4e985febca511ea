import { rightTabs } from "../rights/tabs";
import { idColumn, nameColumn, refsColumn, textColumn } from "../ui/columns";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";

const columns: Column<"roles">[] = [
  nameColumn("roles", "25%"),
  idColumn("18%"),
  refsColumn("rights", "rights", "30%", (r) => r.rights),
  textColumn("note", "27%", (r) => r.note),
];

export function RoleListPage() {
  return (
    <>
      <PlaceHead place="rights" type="roles" tabs={rightTabs} />
      <RecordTable type="roles" columns={columns} />
    </>
  );
}
