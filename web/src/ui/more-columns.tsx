import { fieldsOf, type Listed } from "../api/records";
import type { RecordField } from "../api/records.gen";
import { t } from "../words";
import { countColumn, refColumn, refsColumn, textColumn } from "./columns";
import { valueText } from "./form/generated";
import type { Column } from "./table";
import { local } from "./time";

/** moreColumns are those that a table can have besides its usual ones: a column for each field that a cell can hold. */
export function moreColumns<T extends Listed>(type: T, usual: Column<T>[]): Column<T>[] {
  return fieldsOf(type)
    .filter((f) => !usual.some((c) => c.key === f.name || c.field === f.name) && (f.kind !== "object" || f.many) && f.kind !== "limits")
    .map((f) => columnOf<T>(f));
}

function columnOf<T extends Listed>(f: RecordField): Column<T> {
  const value = (row: object): unknown => (row as Record<string, unknown>)[f.name];
  const strings = (row: object) => [value(row)].flat().filter((v): v is string => typeof v === "string");
  if (f.kind === "ref" && f.many) return { ...refsColumn<T>(f.name, f.ref as Listed, "16%", strings), unsorted: false };
  if (f.kind === "ref") return refColumn<T>(f.name, f.ref as Listed, "16%", (r) => strings(r)[0]);
  if (f.kind === "object") return countColumn<T>(f.name, "12%", (r) => [value(r)].flat().filter((v) => v !== undefined));
  return textColumn<T>(f.name, "16%", (r) => {
    const v = value(r);
    switch (typeof v) {
      case "boolean":
        return t(`console.value.${v ? "yes" : "no"}`);
      case "string":
        return f.kind === "instant" ? local(v, "UTC") : f.kind === "choice" ? valueText(f.name, v) : v;
      case "number":
        return v;
    }
    return Array.isArray(v) ? v.join(", ") : "";
  });
}
