import { timeTabs } from "../schedules/tabs";
import { idColumn, nameColumn, textColumn } from "../ui/columns";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { dayText } from "../ui/time";

const columns: Column<"calendars">[] = [
  nameColumn("calendars", "30%"),
  idColumn("20%"),
  textColumn("days", "50%", (r) => (r.days ?? []).map((d) => d.name ?? dayText(d.date ?? d.from ?? "")).join(", ")),
];

export function CalendarListPage() {
  return (
    <>
      <PlaceHead place="times" type="calendars" tabs={timeTabs} />
      <RecordTable type="calendars" columns={columns} />
    </>
  );
}
