import type { Row } from "../api/client";
import { RecordLink, RecordLinks } from "./record-link";
import type { Column } from "./table";

/** Columns that many lists have. */
export const nameColumn = (type: string, width: string): Column => ({ key: "name", width, cell: (r) => <RecordLink type={type} id={r.id} name={r.name} /> });
export const idColumn = (width: string): Column => ({ key: "id", width, cell: (r) => <span className="font-mono text-[0.86em] text-soft">{r.id}</span> });
export const refsColumn = (key: string, type: string, width: string): Column => ({
  key,
  width,
  cell: (r: Row) => <RecordLinks type={type} ids={(r[key] as string[] | undefined) ?? []} />,
});
export const refColumn = (key: string, type: string, width: string): Column => ({
  key,
  width,
  cell: (r: Row) => (r[key] ? <RecordLink type={type} id={String(r[key])} /> : null),
});
export const textColumn = (key: string, width: string): Column => ({ key, width, cell: (r: Row) => String(r[key] ?? "") });
export const countColumn = (key: string, width: string): Column => ({
  key,
  width,
  cell: (r: Row) => <span className="tabular-nums">{(r[key] as unknown[] | undefined)?.length ?? ""}</span>,
});
