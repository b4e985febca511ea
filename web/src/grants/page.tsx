import type { Grant, Row } from "../api/client";
import { nameColumn } from "../ui/columns";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";
import { GivenTo, On, What, When } from "./lines";

const grant = (row: Row) => row as unknown as Grant;

/** first shows the first line of a grant, and how many follow. */
const first = (row: Row, Cell: typeof What) => {
  const lines = grant(row).lines ?? [];
  return (
    <>
      {/* One link a cell: of several, the last would be cut off and too small to hit. */}
      {lines[0] && <Cell line={lines[0]} most={1} />}
      {lines.length > 1 && <span className="text-soft"> {t("console.more_lines", { n: lines.length - 1 })}</span>}
    </>
  );
};

const columns: Column[] = [
  nameColumn("grants", "24%"),
  { key: "effect", width: "8%", cell: (r) => <StateMark value={grant(r).effect ?? "allow"} /> },
  { key: "enabled", width: "8%", cell: (r) => <StateMark value={grant(r).enabled ? "on" : "off"} /> },
  { key: "to", width: "18%", cell: (r) => <GivenTo to={grant(r).to} /> },
  { key: "what", width: "14%", cell: (r) => first(r, What) },
  { key: "on", width: "16%", cell: (r) => first(r, On) },
  { key: "when", width: "16%", cell: (r) => first(r, When) },
];

export function GrantsPage() {
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
