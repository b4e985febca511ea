import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { list, titleOf } from "../api/records";
import { useMakes } from "../session/mandates";
import { nameColumn, refColumn } from "../ui/columns";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";
import { Many } from "./many";
import { Held } from "./held";
import { states } from "./states";
import { deviceTabs } from "./tabs";
import { Trees } from "./tree";

const columns: Column<"devices">[] = [
  nameColumn("devices", "22%"),
  { key: "held", width: "25%", unsorted: true, cell: (r) => <Held device={r.id} /> },
  refColumn("kind", "kinds", "13%", (r) => r.kind),
  refColumn("site", "sites", "14%", (r) => r.site, t("console.unsorted")),
  { key: "state", width: "14%", cell: (r) => <StateMark value={r.lockout ? "locked-out" : (r.state ?? "")} /> },
  { key: "tags", width: "12%", cell: (r) => <span className="text-soft">{r.tags?.join(", ")}</span> },
];

export function DeviceListPage() {
  const kinds = useQuery({ queryKey: ["options", "kinds"], queryFn: () => list("kinds", { limit: 1000, sort: "name" }), staleTime: 30_000 });
  const [picked, setPicked] = useState<string[]>([]);
  const makes = useMakes()("devices");
  return (
    <>
      <PlaceHead place="devices" type="devices" tabs={deviceTabs} />
      <div className="grid gap-5 lg:grid-cols-[13.5rem_minmax(0,1fr)]">
        <aside className="print:hidden max-h-[calc(100vh-8rem)] overflow-auto max-lg:max-h-56" tabIndex={0} role="region" aria-label={t("console.types.sites")}>
          <Trees />
        </aside>
        <div className="min-w-0">
          {picked.length > 0 && <Many picked={picked} onDone={() => setPicked([])} />}
          <RecordTable
            type="devices"
            columns={columns}
            hidden={["site", "group"]}
            picked={makes ? picked : undefined}
            onPick={setPicked}
            filters={[
              { name: "kind", options: (kinds.data?.items ?? []).map((r) => ({ value: r.id, label: titleOf(r) })) },
              { name: "state", options: states.map((v) => ({ value: v, label: t(`console.value.${v}`) })) },
            ]}
          />
        </div>
      </div>
    </>
  );
}
