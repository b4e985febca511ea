import { useInfiniteQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { ArrowDown, ArrowUp, Search } from "lucide-react";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { list, titleOf, type Listed, type Row } from "../api/records";
import { number, t } from "../words";
import { usePrinting } from "./use-printing";
import { Choose } from "./choose";
import { Busy, Empty, Trouble } from "./notice";
import { recordPath } from "./record-link";

/** Column is a column of a table: its field, by which it sorts unless it is none, and what a row has in it. */
export type Column<T extends Listed> = { key: string; width: string; cell: (row: Row<T>) => ReactNode; head?: ReactNode; unsorted?: boolean };
export type Filter = { name: string; options: { value: string; label: string }[] };

const pageSize = 200;
const rowHeight = 37;

/** RecordTable is a list of records of any length: searched and narrowed by the address, read as it scrolls. */
export function RecordTable<T extends Listed>({
  type,
  columns: shownColumns,
  filters = [],
  hidden = [],
  picked,
  onPick,
}: {
  type: T;
  columns: Column<T>[];
  filters?: Filter[];
  hidden?: string[];
  picked?: string[];
  onPick?: (ids: string[]) => void;
}) {
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const q = params.get("q") ?? "";
  const [word, setWord] = useState(q);
  useEffect(() => {
    const later = setTimeout(() => {
      if (word !== q) setParams((p) => setOrDrop(p, "q", word), { replace: true });
    }, 150);
    return () => clearTimeout(later);
  }, [word, q, setParams]);

  const sort = params.get("sort") ?? "name";
  const names = [...filters.map((f) => f.name), ...hidden];
  const filter = Object.fromEntries(names.flatMap((name) => (params.get(name) ? [[name, params.get(name) ?? ""]] : [])));
  const pages = useInfiniteQuery({
    queryKey: ["list", type, q, filter, sort],
    queryFn: ({ pageParam }) => list(type, { limit: pageSize, cursor: pageParam || undefined, q: q || undefined, sort, filter }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: (before) => before,
  });
  const rows = pages.data?.pages.flatMap((p) => p.items) ?? [];
  const total = pages.data?.pages[0]?.total ?? 0;
  const columns = picked && onPick ? [pickColumn(picked, onPick, rows), ...shownColumns] : shownColumns;

  const scroller = useRef<HTMLDivElement>(null);
  const printing = usePrinting();
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroller.current, estimateSize: () => rowHeight, overscan: 12 });
  const shown = printing ? rows.map((_, index) => ({ index, start: 0, end: virtual.getTotalSize() })) : virtual.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage && last >= rows.length - 40) void fetchNextPage();
  }, [last, rows.length, hasNextPage, isFetchingNextPage, fetchNextPage]);

  const before = shown[0]?.start ?? 0;
  const after = virtual.getTotalSize() - (shown.at(-1)?.end ?? 0);
  return (
    <>
      <div className="mb-3 flex flex-wrap items-end gap-3">
        <label className="relative flex w-72 flex-col gap-1 print:hidden">
          <span className="text-xs font-medium text-soft">{t("console.search")}</span>
          <Search size={14} aria-hidden className="absolute bottom-2.5 left-2.5 text-soft" />
          <input type="search" className="field pl-8" value={word} onChange={(e) => setWord(e.target.value)} />
        </label>
        {filters.map((f) => (
          <div key={f.name} className="w-44 print:hidden">
            <Choose
              label={t(`console.field.${f.name}`)}
              none={t("console.any")}
              value={params.get(f.name) ?? ""}
              options={f.options}
              onChange={(v) => setParams((p) => setOrDrop(p, f.name, v))}
            />
          </div>
        ))}
        <p className="ml-auto pb-1.5 text-soft tabular-nums" role="status">
          {t("console.count", { n: number(total) })}
        </p>
      </div>
      {pages.error && <Trouble error={pages.error} />}
      <div ref={scroller} className="sheet h-[calc(100vh-13rem)] min-h-64 overflow-auto" tabIndex={0} role="region" aria-label={t(`console.types.${type}`)}>
        <table className="w-full max-md:min-w-[72rem] table-fixed border-separate border-spacing-0">
          <colgroup>
            {columns.map((c) => (
              <col key={c.key} style={{ width: c.width }} />
            ))}
          </colgroup>
          <thead className="sticky top-0 z-10 bg-sheet">
            <tr>
              {columns.map((c) => (
                <Head key={c.key} column={c} sort={sort} onSort={(by) => setParams((p) => setOrDrop(p, "sort", by === "name" ? "" : by), { replace: true })} />
              ))}
            </tr>
          </thead>
          <tbody>
            {before > 0 && <tr style={{ height: before }} aria-hidden />}
            {shown.map((v) => {
              const row = rows[v.index];
              if (!row) return null;
              return (
                <tr key={row.id} className="cursor-pointer hover:bg-sunk" onClick={() => void navigate(recordPath(type, row.id))}>
                  {columns.map((c) => (
                    <td
                      key={c.key}
                      className="truncate border-b border-line/60 px-3"
                      style={{ height: rowHeight }}
                      onClick={(e) => (e.target as HTMLElement).closest("a, input") && e.stopPropagation()}
                    >
                      {c.cell(row)}
                    </td>
                  ))}
                </tr>
              );
            })}
            {after > 0 && <tr style={{ height: after }} aria-hidden />}
          </tbody>
        </table>
        {pages.isPending && <Busy />}
        {pages.data && rows.length === 0 && <Empty>{q ? t("console.nothing_found", { word: q }) : t(`console.empty.${type}`)}</Empty>}
      </div>
    </>
  );
}

/** Head is the head of a column. Pressed, it sorts by it; pressed again, from the end. */
function Head<T extends Listed>({ column, sort, onSort }: { column: Column<T>; sort: string; onSort: (by: string) => void }) {
  const { key, head, unsorted } = column;
  const way = sort === key ? "ascending" : sort === `-${key}` ? "descending" : undefined;
  return (
    <th scope="col" aria-sort={way} className="border-b border-line px-3 py-1 text-xs text-soft">
      {(head ?? unsorted) ? (
        (head ?? t(`console.field.${key}`))
      ) : (
        <button
          type="button"
          data-paper
          className="inline-flex min-h-[24px] cursor-pointer items-center gap-1 font-[550] hover:text-ink"
          onClick={() => onSort(way === "ascending" ? `-${key}` : key)}
        >
          {t(`console.field.${key}`)}
          {way === "ascending" && <ArrowUp size={12} aria-hidden />}
          {way === "descending" && <ArrowDown size={12} aria-hidden />}
        </button>
      )}
    </th>
  );
}

/** pickColumn is a column of boxes by which many records are picked. */
function pickColumn<T extends Listed>(picked: string[], onPick: (ids: string[]) => void, rows: Row<T>[]): Column<T> {
  const all = rows.length > 0 && rows.every((r) => picked.includes(r.id));
  const box = (label: string, checked: boolean, ids: string[]) => (
    <input
      type="checkbox"
      className="size-4 align-middle accent-(--accent)"
      aria-label={label}
      checked={checked}
      onChange={(e) => onPick(e.target.checked ? [...new Set([...picked, ...ids])] : picked.filter((id) => !ids.includes(id)))}
    />
  );
  return {
    key: "pick",
    width: "40px",
    head: box(
      t("console.many.all"),
      all,
      rows.map((r) => r.id),
    ),
    cell: (r) => box(t("console.many.pick", { name: titleOf(r) }), picked.includes(r.id), [r.id]),
  };
}

function setOrDrop(params: URLSearchParams, name: string, value: string) {
  const next = new URLSearchParams(params);
  if (value) next.set(name, value);
  else next.delete(name);
  return next;
}
