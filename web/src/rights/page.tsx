import { Levels } from "./levels";
import { idColumn, nameColumn, refsColumn, textColumn } from "../ui/columns";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";

const columns: Record<string, Column[]> = {
  rights: [nameColumn("rights", "30%"), idColumn("20%"), refsColumn("implies", "rights", "25%"), refsColumn("kinds", "kinds", "25%")],
  roles: [nameColumn("roles", "25%"), idColumn("18%"), refsColumn("rights", "rights", "30%"), textColumn("note", "27%")],
  kinds: [nameColumn("kinds", "50%"), idColumn("50%")],
};

/** What can be done: rights with what they imply, roles, and kinds of device. */
export function RightsPage({ type }: { type: "rights" | "roles" | "kinds" }) {
  return (
    <>
      <PlaceHead
        place="rights"
        type={type}
        tabs={[
          { to: "/rights", type: "rights" },
          { to: "/rights/roles", type: "roles" },
          { to: "/rights/kinds", type: "kinds" },
        ]}
      />
      {type === "rights" && <Levels />}
      <RecordTable key={type} type={type} columns={columns[type] ?? []} />
    </>
  );
}
