import { useState } from "react";
import type { User } from "../api/records";
import { idColumn, nameColumn, textColumn } from "../ui/columns";
import { useMakes } from "../session/mandates";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column, type Filter } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { local } from "../ui/time";
import { useZone } from "../ui/time-field";
import { t } from "../words";
import { Many } from "./many";
import { peopleTabs } from "./tabs";

const columns: Column<"users">[] = [
  nameColumn("users", "26%"),
  idColumn("20%"),
  textColumn("email", "24%", (r) => r.email),
  textColumn("kind", "10%", (r) => t(`console.value.${r.kind ?? ""}`)),
  { key: "status", width: "12%", cell: (r) => <StateMark value={r.status ?? ""} /> },
  { key: "valid", width: "16%", cell: (r) => <Ends user={r} /> },
];

function Ends({ user }: { user: User }) {
  const zone = useZone({});
  const { from, until } = user.valid ?? {};
  return (
    <span className="tabular-nums">
      {from && t("console.from", { time: local(from, zone) })} {until && t("console.until", { time: local(until, zone) })}
    </span>
  );
}

const filters: Filter[] = [
  { name: "status", options: ["active", "invited", "suspended"].map((v) => ({ value: v, label: t(`console.value.${v}`) })) },
  { name: "kind", options: ["person", "service"].map((v) => ({ value: v, label: t(`console.value.${v}`) })) },
];

export function PeopleListPage() {
  const [picked, setPicked] = useState<string[]>([]);
  const makes = useMakes()("users");
  return (
    <>
      <PlaceHead place="people" type="users" tabs={peopleTabs} />
      {picked.length > 0 && <Many picked={picked} onDone={() => setPicked([])} />}
      <RecordTable type="users" columns={columns} filters={filters} hidden={["group"]} picked={makes ? picked : undefined} onPick={setPicked} />
    </>
  );
}
