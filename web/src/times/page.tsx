import { idColumn, nameColumn, refsColumn, textColumn } from "../ui/columns";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { spanText, windowText, type Window } from "./text";

const columns: Record<string, Column[]> = {
  schedules: [
    nameColumn("schedules", "24%"),
    textColumn("zone", "12%"),
    { key: "windows", width: "32%", cell: (r) => ((r.windows as Window[] | undefined) ?? []).map(windowText).join(", ") },
    { key: "season", width: "12%", cell: (r) => (r.season ? spanText(r.season) : "") },
    refsColumn("closed", "calendars", "20%"),
  ],
  calendars: [
    nameColumn("calendars", "30%"),
    idColumn("20%"),
    {
      key: "days",
      width: "50%",
      cell: (r) => ((r.days as { date?: string; from?: string; name?: string }[] | undefined) ?? []).map((d) => d.name ?? d.date ?? d.from).join(", "),
    },
  ],
};

/** When things open: schedules, and the days that differ. */
export function TimesPage({ type }: { type: "schedules" | "calendars" }) {
  return (
    <>
      <PlaceHead
        place="times"
        type={type}
        tabs={[
          { to: "/times", type: "schedules" },
          { to: "/times/calendars", type: "calendars" },
        ]}
      />
      <RecordTable key={type} type={type} columns={columns[type] ?? []} />
    </>
  );
}
