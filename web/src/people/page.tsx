import type { Row, User, UserGroup } from "../api/client";
import { RecordLinks } from "../ui/record-link";
import { StateMark } from "../ui/state-mark";
import { RecordTable, type Column, type Filter } from "../ui/table";
import { local } from "../ui/time";
import { GivenTo } from "../grants/lines";
import { idColumn, nameColumn } from "../ui/columns";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";

const user = (row: Row) => row as unknown as User;
const group = (row: Row) => row as unknown as UserGroup;

const users: Column[] = [
  nameColumn("users", "26%"),
  idColumn("20%"),
  { key: "email", width: "24%", cell: (r) => user(r).email },
  { key: "kind", width: "10%", cell: (r) => t(`console.value.${user(r).kind ?? ""}`) },
  { key: "status", width: "12%", cell: (r) => <StateMark value={user(r).status ?? ""} /> },
  { key: "valid", width: "16%", cell: (r) => <Ends user={user(r)} /> },
];

function Ends({ user }: { user: User }) {
  const { from, until } = user.valid ?? {};
  return (
    <span className="tabular-nums">
      {from && t("console.from", { time: local(from, "UTC") })} {until && t("console.until", { time: local(until, "UTC") })}
    </span>
  );
}

const groups: Column[] = [
  nameColumn("user_groups", "28%"),
  idColumn("22%"),
  { key: "members", width: "12%", cell: (r) => <span className="tabular-nums">{group(r).members?.length ?? 0}</span> },
  { key: "includes", width: "24%", cell: (r) => <RecordLinks type="user_groups" ids={group(r).includes ?? []} /> },
  { key: "enabled", width: "14%", cell: (r) => <StateMark value={group(r).enabled ? "on" : "off"} /> },
];

const filters: Filter[] = [
  { name: "status", options: ["active", "invited", "suspended"].map((v) => ({ value: v, label: t(`console.value.${v}`) })) },
  { name: "kind", options: ["person", "service"].map((v) => ({ value: v, label: t(`console.value.${v}`) })) },
];

const mandates: Column[] = [
  nameColumn("mandates", "30%"),
  idColumn("25%"),
  { key: "role", width: "15%", cell: (r) => t(`console.mandate.${String(r.role)}`) },
  { key: "to", width: "20%", cell: (r) => <GivenTo to={r.to as never} /> },
  { key: "enabled", width: "10%", cell: (r) => <StateMark value={r.enabled ? "on" : "off"} /> },
];

const columns = { users, user_groups: groups, mandates };

export function PeoplePage({ type }: { type: "users" | "user_groups" | "mandates" }) {
  return (
    <>
      <PlaceHead
        place="people"
        type={type}
        tabs={[
          { to: "/people", type: "users" },
          { to: "/people/groups", type: "user_groups" },
          { to: "/people/mandates", type: "mandates" },
        ]}
      />
      <RecordTable key={type} type={type} columns={columns[type]} filters={type === "users" ? filters : []} />
    </>
  );
}
