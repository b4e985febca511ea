import { fieldsOf, type Row, type Type } from "../../api/records";
import type { RecordField } from "../../api/records.gen";

/** named tells whether what is in a list has an id that can be made of its name: then nobody is asked for it. */
export const named = (field: RecordField) => field.fields?.some((f) => f.kind === "id") === true && field.fields.some((f) => f.name === "name");

/** withIDs gives what has a name and no id within a record, such as a point of a device, an id made of its name. What has an id keeps it. */
export function withIDs<T extends Type>(type: T, row: Row<T>): Row<T> {
  const values: Record<string, unknown> = { ...row };
  const out: Record<string, unknown> = {};
  for (const f of fieldsOf(type)) {
    const list = values[f.name];
    if (!named(f) || !Array.isArray(list)) continue;
    const parts = list as { id?: string; name?: string }[];
    const taken = new Set(parts.map((p) => p.id));
    out[f.name] = parts.map((p) => {
      if (p.id || !p.name) return p;
      const id = free(madeOf(p.name), taken);
      taken.add(id);
      return { ...p, id };
    });
  }
  return { ...row, ...out };
}

/** madeOf is an id made of a name. */
export const madeOf = (name: string) =>
  name
    .toLowerCase()
    .normalize("NFKD")
    .replace(/\p{Mn}/gu, "")
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "")
    .slice(0, 100) || "x";

function free(id: string, taken: Set<string | undefined>) {
  if (!taken.has(id)) return id;
  let n = 2;
  while (taken.has(`${id}-${String(n)}`)) n++;
  return `${id}-${String(n)}`;
}
