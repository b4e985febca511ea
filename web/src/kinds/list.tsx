import { rightTabs } from "../rights/tabs";
import { idColumn, nameColumn, textColumn } from "../ui/columns";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";

const columns: Column<"kinds">[] = [nameColumn("kinds", "35%"), idColumn("30%"), textColumn("note", "35%", (r) => r.note)];

export function KindListPage() {
  return (
    <>
      <PlaceHead place="rights" type="kinds" tabs={rightTabs} />
      <RecordTable type="kinds" columns={columns} />
    </>
  );
}
