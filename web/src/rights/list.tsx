import { idColumn, nameColumn, refsColumn } from "../ui/columns";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { Levels } from "./levels";
import { rightTabs } from "./tabs";

const columns: Column<"rights">[] = [
  nameColumn("rights", "30%"),
  idColumn("20%"),
  refsColumn("implies", "rights", "25%", (r) => r.implies),
  refsColumn("kinds", "kinds", "25%", (r) => r.kinds),
];

export function RightListPage() {
  return (
    <>
      <PlaceHead place="rights" type="rights" tabs={rightTabs} />
      <Levels />
      <RecordTable type="rights" columns={columns} />
    </>
  );
}
