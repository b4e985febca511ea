import { nameColumn, refsColumn, textColumn } from "../ui/columns";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";
import { timeTabs } from "./tabs";
import { seasonText, windowText } from "./text";

const columns: Column<"schedules">[] = [
  nameColumn("schedules", "24%"),
  textColumn("zone", "14%", (r) => (r.zone === "site" ? t("console.site_clock") : r.zone)),
  textColumn("windows", "28%", (r) => (r.windows ?? []).map(windowText).join(", ")),
  textColumn("season", "16%", (r) => seasonText(r.season)),
  refsColumn("closed", "calendars", "18%", (r) => r.closed),
];

export function ScheduleListPage() {
  return (
    <>
      <PlaceHead place="times" type="schedules" tabs={timeTabs} />
      <RecordTable type="schedules" columns={columns} />
    </>
  );
}
