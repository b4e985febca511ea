/** Kind says how a field is shown and typed. */
export type Kind =
  | "text"
  | "note"
  | "choice"
  | "switch"
  | "ref"
  | "refs"
  | "words"
  | "number"
  | "instant"
  | "points"
  | "windows"
  | "days"
  | "span"
  | "special"
  | "members"
  | "to"
  | "lines";

export type Field = { path: string; kind: Kind; type?: string; options?: string[] };

const name: Field = { path: "name", kind: "text" };
const valid: Field[] = [
  { path: "valid.from", kind: "instant" },
  { path: "valid.until", kind: "instant" },
];

/** The fields of each type of record, in the order in which people fill them in. */
export const fieldsOf: Record<string, Field[]> = {
  users: [
    name,
    { path: "email", kind: "text" },
    { path: "kind", kind: "choice", options: ["person", "service"] },
    { path: "status", kind: "choice", options: ["active", "invited", "suspended"] },
    ...valid,
  ],
  user_groups: [
    name,
    { path: "enabled", kind: "switch" },
    { path: "members", kind: "members" },
    { path: "includes", kind: "refs", type: "user_groups" },
    { path: "sign_in.second_factor", kind: "choice", options: ["optional", "required"] },
    { path: "sign_in.password_days", kind: "number" },
  ],
  devices: [
    name,
    { path: "kind", kind: "ref", type: "kinds" },
    { path: "site", kind: "ref", type: "sites" },
    { path: "state", kind: "choice", options: ["in-service", "maintenance", "retired"] },
    { path: "tags", kind: "words" },
    { path: "points", kind: "points" },
    { path: "address", kind: "text" },
    { path: "lockout.reason", kind: "text" },
    { path: "lockout.by", kind: "text" },
    { path: "lockout.from", kind: "instant" },
    { path: "lockout.until", kind: "instant" },
  ],
  device_groups: [
    name,
    { path: "parent", kind: "ref", type: "device_groups" },
    { path: "devices", kind: "refs", type: "devices" },
    { path: "match.kinds", kind: "refs", type: "kinds" },
    { path: "match.tags", kind: "words" },
    { path: "match.sites", kind: "refs", type: "sites" },
  ],
  sites: [name, { path: "parent", kind: "ref", type: "sites" }, { path: "zone", kind: "text" }],
  kinds: [name],
  rights: [name, { path: "implies", kind: "refs", type: "rights" }, { path: "kinds", kind: "refs", type: "kinds" }],
  roles: [name, { path: "rights", kind: "refs", type: "rights" }, { path: "note", kind: "note" }],
  calendars: [name, { path: "days", kind: "days" }],
  schedules: [
    name,
    { path: "zone", kind: "text" },
    { path: "windows", kind: "windows" },
    { path: "season", kind: "span" },
    { path: "dates", kind: "span" },
    { path: "closed", kind: "refs", type: "calendars" },
    { path: "special", kind: "special" },
  ],
  grants: [
    name,
    { path: "effect", kind: "choice", options: ["allow", "deny"] },
    { path: "enabled", kind: "switch" },
    { path: "to", kind: "to" },
    ...valid,
    { path: "lines", kind: "lines" },
    { path: "note", kind: "note" },
  ],
  mandates: [
    name,
    { path: "role", kind: "choice", options: ["owner", "delegate", "auditor", "enforcement"] },
    { path: "enabled", kind: "switch" },
    { path: "to.users", kind: "refs", type: "users" },
    { path: "to.groups", kind: "refs", type: "user_groups" },
    ...valid,
    { path: "sites", kind: "refs", type: "sites" },
    { path: "groups", kind: "refs", type: "user_groups" },
    { path: "rights", kind: "refs", type: "rights" },
  ],
};

export type Value = unknown;

/** at reads a field of a record by its path. */
export function at(row: Value, path: string): Value {
  return path.split(".").reduce<Value>((v, key) => (v && typeof v === "object" ? (v as Record<string, Value>)[key] : undefined), row);
}

/** withField gives a record with a field changed; empty values, and objects of nothing else, are left out. */
export function withField<T extends object>(row: T, path: string, value: Value): T {
  const [key = "", ...rest] = path.split(".");
  const inner = rest.length ? withField(((row as Record<string, Value>)[key] ?? {}) as object, rest.join("."), value) : value;
  const others = Object.fromEntries(Object.entries(row).filter(([k]) => k !== key));
  return (isEmpty(inner) ? others : { ...row, [key]: inner }) as T;
}

const isEmpty = (v: Value) =>
  v === undefined ||
  v === null ||
  v === "" ||
  (Array.isArray(v) && v.length === 0) ||
  (typeof v === "object" && !Array.isArray(v) && Object.keys(v as object).length === 0);
