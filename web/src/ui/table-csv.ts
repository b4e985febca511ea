import { list, type Listed, type ListQuery, type Row } from "../api/records";
import type { RecordField } from "../api/records.gen";
import { serviceNow } from "../session/clock";
import { t } from "../words";
import { nameOf } from "./names";

/** How many records are read at once: the most that the service gives. */
const together = 1000;

/** everyPage reads all records that a table shows, page by page, at most so many. */
export async function everyPage<T extends Listed>(type: T, query: ListQuery, most = Infinity): Promise<Row<T>[]> {
  const rows: Row<T>[] = [];
  let cursor: string | undefined;
  do {
    const page = await list(type, { ...query, limit: together, cursor });
    rows.push(...page.items);
    cursor = page.next;
  } while (cursor && rows.length < most);
  return rows;
}

/** tableText writes what a table shows as CSV: ids with the names beside them, and in each row when it was so, and of which revision. */
export async function tableText<T extends Listed>(type: T, query: ListQuery, fields: RecordField[], revision: number): Promise<string> {
  const at = serviceNow().toISOString();
  const rows = await everyPage(type, query);
  const columns = fields.flatMap((f) => {
    const head = t(`console.field.${f.name}`);
    const value = (row: Row<T>): unknown => ({ ...row })[f.name as keyof Row<T>];
    const own = { head, cell: (row: Row<T>) => Promise.resolve(cellText(value(row))) };
    if (f.kind !== "ref") return [own];
    const ref = f.ref as Listed;
    const ids = (row: Row<T>) => [value(row)].flat().filter((id): id is string => typeof id === "string");
    const names = async (row: Row<T>) => (await Promise.all(ids(row).map(async (id) => (await nameOf(ref, id)) ?? id))).join("|");
    return [
      { head: t("console.table.id_of", { field: head }), cell: own.cell },
      { head, cell: names },
    ];
  });
  const head = [...columns.map((c) => c.head), t("console.table.at"), t("console.table.revision")];
  const lines = await Promise.all(rows.map(async (row) => [...(await Promise.all(columns.map((c) => c.cell(row)))), at, String(revision)]));
  return [head, ...lines].map((cells) => cells.map(quoted).join(",") + "\r\n").join("");
}

/** cellText writes a value into one cell: entries of a list by a bar, objects as JSON. */
function cellText(value: unknown): string {
  if (value === undefined || value === null) return "";
  if (Array.isArray(value) && value.every((v) => typeof v !== "object")) return value.join("|");
  return typeof value === "object" ? JSON.stringify(value) : String(value as string | number | boolean);
}

/** quoted keeps a spreadsheet from taking a text for a formula, and what parts cells from parting one. */
function quoted(text: string) {
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

/** download hands a text to the browser as a file. */
export function download(name: string, text: string, type = "text/csv") {
  const mark = type === "text/csv" ? ["\uFEFF"] : []; // tells spreadsheets that it is UTF-8
  const url = URL.createObjectURL(new Blob([...mark, text], { type }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  URL.revokeObjectURL(url);
}
