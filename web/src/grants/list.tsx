import type { Grant } from "../api/records";
import { nameColumn } from "../ui/columns";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";
import { GivenTo, On, What, When } from "./lines";

/** first shows the first line of a grant, and how many follow. */
const first = (row: Grant, Cell: typeof What) => {
  const lines = row.lines ?? [];
  return (
    <>
      {/* One link a cell: of several, the last would be cut off and too small to hit. */}
      {lines[0] && <Cell line={lines[0]} most={1} />}
      {lines.length > 1 && <span className="text-soft"> {t("console.more_lines", { n: lines.length - 1 })}</span>}
    </>
  );
};

const columns: Column<"grants">[] = [
  nameColumn("grants", "24%"),
  { key: "effect", width: "8%", cell: (r) => <StateMark value={r.effect ?? "allow"} /> },
  { key: "enabled", width: "8%", cell: (r) => <StateMark value={r.enabled ? "on" : "off"} /> },
  { key: "to", unsorted: true, width: "18%", cell: (r) => <GivenTo to={r.to} /> },
  { key: "what", field: "lines", unsorted: true, width: "14%", cell: (r) => first(r, What) },
  { key: "on", unsorted: true, width: "16%", cell: (r) => first(r, On) },
  { key: "when", unsorted: true, width: "16%", cell: (r) => first(r, When) },
];

export function GrantListPage() {
  return (
    <>
      <PlaceHead place="grants" type="grants" tabs={[]} />
      <RecordTable
        type="grants"
        columns={columns}
        filters={[{ name: "effect", options: ["allow", "deny"].map((v) => ({ value: v, label: t(`console.value.${v}`) })) }]}
      />
    </>
  );
}
