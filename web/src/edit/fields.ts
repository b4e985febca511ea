import { records, type RecordField } from "../api/records.gen";

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

/** The objects, and the lists of objects, that have an input of their own. All others are filled in field by field. */
const objects: Record<string, Kind> = {
  points: "points",
  windows: "windows",
  days: "days",
  season: "span",
  dates: "span",
  special: "special",
  members: "members",
  lines: "lines",
};

/** inputsOf says with what the fields of a record, or of an object in it, are filled in. */
function inputsOf(fields: RecordField[]): Field[] {
  return fields.flatMap((f): Field[] => {
    const own = objects[f.path];
    if (own) return [{ path: f.path, kind: own }];
    switch (f.kind) {
      case "id":
        return []; // which a new record alone is asked for
      case "object":
        return f.path === "to" && f.fields?.some((x) => x.name === "everyone") ? [{ path: f.path, kind: "to" }] : inputsOf(f.fields ?? []);
      case "ref":
        return [{ path: f.path, kind: f.many ? "refs" : "ref", type: f.ref }];
      case "choice":
        return [{ path: f.path, kind: "choice", options: f.choices }];
      case "switch":
      case "number":
      case "instant":
        return [{ path: f.path, kind: f.kind }];
      default:
        return [{ path: f.path, kind: f.many ? "words" : f.long ? "note" : "text" }];
    }
  });
}

/** The fields of each type of record, in the order of a document. */
export const fieldsOf: Record<string, Field[]> = Object.fromEntries(Object.entries(records).map(([type, fields]) => [type, inputsOf(fields)]));

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
