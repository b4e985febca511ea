import type { ReactNode } from "react";
import { titleOf, type Listed, type Row } from "../api/records";
import { number } from "../words";
import { OriginMark } from "../sources/origin";
import { RecordLink, RecordLinks } from "./record-link";
import type { Column } from "./table";

/** Columns that many lists have. */
export const nameColumn = <T extends Listed>(type: T, width: string): Column<T> => ({
  key: "name",
  width,
  cell: (r) => (
    <>
      <RecordLink type={type} id={r.id} name={titleOf(r)} />
      <OriginMark type={type} id={r.id} />
    </>
  ),
});
export const idColumn = <T extends Listed>(width: string): Column<T> => ({
  key: "id",
  width,
  cell: (r) => <span className="font-mono text-[0.86em] text-soft">{r.id}</span>,
});
export const refsColumn = <T extends Listed>(key: string, type: Listed, width: string, ids: (row: Row<T>) => string[] | undefined): Column<T> => ({
  key,
  width,
  cell: (r) => <RecordLinks type={type} ids={ids(r) ?? []} most={2} />,
});
export const refColumn = <T extends Listed>(key: string, type: Listed, width: string, id: (row: Row<T>) => string | undefined, none?: string): Column<T> => ({
  key,
  width,
  cell: (r) => {
    const ref = id(r);
    return ref ? <RecordLink type={type} id={ref} /> : <span className="text-soft">{none}</span>;
  },
});
export const textColumn = <T extends Listed>(key: string, width: string, text: (row: Row<T>) => ReactNode): Column<T> => ({ key, width, cell: text });
export const countColumn = <T extends Listed>(key: string, width: string, list: (row: Row<T>) => unknown[] | undefined): Column<T> => ({
  key,
  width,
  cell: (r) => <span className="tabular-nums">{number(list(r)?.length ?? 0)}</span>,
});
/** entriesColumn counts the long list of a record, which lists do not tell. */
export const entriesColumn = <T extends Listed>(key: string, width: string): Column<T> => ({
  key,
  width,
  cell: (_, entries) => <span className="tabular-nums">{number(entries)}</span>,
});
