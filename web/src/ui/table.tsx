import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { ArrowDown, ArrowUp, Columns3, Download, Search } from "lucide-react";
import { Popover } from "radix-ui";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { problemOf, session } from "../api/client";
import { fieldsOf, list, titleOf, type Listed, type ListQuery, type Row } from "../api/records";
import { number, t } from "../words";
import { useAddress } from "./address";
import { Choose } from "./choose";
import { CheckBox, Chips } from "./fields";
import { moreColumns } from "./more-columns";
import { Busy, Empty, Fault, Trouble } from "./notice";
import { recordPath } from "./record-link";
import { download, everyPage, tableText } from "./table-csv";
import { ColumnFilter, FilterText, narrows } from "./table-filter";
import { usePrinting } from "./use-printing";

/** Column is a column of a table: its field, by which it sorts unless it is none, and what a row has in it. */
export type Column<T extends Listed> = {
  key: string;
  width: string;
  /** cell is what a row has in it; entries is how many its long list has. */
  cell: (row: Row<T>, entries: number) => ReactNode;
  head?: ReactNode;
  unsorted?: boolean;
  /** field is the field that is taken away for it, where the column has none of its own. */
  field?: string;
};
export type Filter = { name: string; options: { value: string; label: string }[] };

const pageSize = 200;
const rowHeight = 37;

/** Most records that are picked at once: as many as one change takes. */
const mostPicked = 10_000;

type Props<T extends Listed> = {
  type: T;
  columns: Column<T>[];
  filters?: Filter[];
  hidden?: string[];
  picked?: string[];
  onPick?: (ids: string[]) => void;
};

/** turned is the order after a click on a head: by that column, or from its end where it was by that column already. */
function turned(address: URLSearchParams, key: string): string {
  const next = (address.get("sort") ?? "name") === key ? `-${key}` : key;
  return next === "name" ? "" : next;
}

/** RecordTable is a list of records of any length: searched, narrowed, sorted and laid out by the address, read as it scrolls. */
export function RecordTable<T extends Listed>({ type, columns: usual, filters = [], hidden = [], picked, onPick }: Props<T>) {
  const [params, setParams] = useAddress();
  const navigate = useNavigate();
  const q = params.get("q") ?? "";
  const [word, setWord] = useState(q);
  useEffect(() => {
    const later = setTimeout(() => {
      if (word !== q) setParams((p) => setOrDrop(p, "q", word), { replace: true });
    }, 150);
    return () => clearTimeout(later);
  }, [word, q, setParams]);

  const fields = new Map(fieldsOf(type).map((f) => [f.name, f]));
  const possible = [...usual, ...moreColumns(type, usual)];
  const chosen = params.get("columns")?.split(",");
  const shownColumns = chosen ? possible.filter((c) => chosen.includes(c.key) || c.key === "name") : usual;
  const setFilter = (name: string) => (value: string) => setParams((p) => setOrDrop(p, name, value), { replace: true });

  const sort = params.get("sort") ?? "name";
  const narrowed = fieldsOf(type).filter((f) => narrows(f) && params.get(f.name));
  const names = [...new Set([...narrowed.map((f) => f.name), ...filters.map((f) => f.name), ...hidden])];
  const filter = Object.fromEntries(names.flatMap((name) => (params.get(name) ? [[name, params.get(name) ?? ""]] : [])));
  const query = { q: q || undefined, sort, filter };
  const pages = useInfiniteQuery({
    queryKey: ["list", type, q, filter, sort],
    queryFn: ({ pageParam }) => list(type, { ...query, limit: pageSize, cursor: pageParam || undefined }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: (before) => before,
  });
  const rows = pages.data?.pages.flatMap((p) => p.items) ?? [];
  const entries = Object.assign({}, ...(pages.data?.pages.map((p) => p.entries) ?? [])) as Record<string, number>;
  const total = pages.data?.pages[0]?.total ?? 0;
  const lastPicked = useRef<string>(undefined);
  const columns = picked && onPick ? [pickColumn(picked, onPick, rows, lastPicked), ...shownColumns] : shownColumns;

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
              onChange={setFilter(f.name)}
            />
          </div>
        ))}
        <div className="ml-auto flex items-center gap-2">
          <p className="pb-1.5 text-soft tabular-nums" role="status">
            {t("console.count", { n: number(total) })}
          </p>
          <ColumnChoice
            columns={possible}
            shown={shownColumns.map((c) => c.key)}
            usual={usual.map((c) => c.key)}
            onChange={(keys) => setParams((p) => setOrDrop(p, "columns", keys?.join(",") ?? ""), { replace: true })}
          />
          <TakeAway type={type} query={query} columns={shownColumns} disabled={total === 0} />
        </div>
      </div>
      <Chips
        items={narrowed
          .filter((f) => !filters.some((x) => x.name === f.name))
          .map((f) => ({ key: f.name, name: t(`console.field.${f.name}`), shown: <FilterText field={f} value={filter[f.name] ?? ""} /> }))}
        onDrop={(name) => setFilter(name)("")}
      />
      {picked && onPick && picked.length > 0 && picked.length < total && rows.every((r) => picked.includes(r.id)) && (
        <PickAll type={type} query={query} total={total} onPick={onPick} />
      )}
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
              {columns.map((c) => {
                const field = filters.some((f) => f.name === c.key) ? undefined : fields.get(c.key);
                return (
                  <Head
                    key={c.key}
                    column={c}
                    sort={sort}
                    onSort={(key) => setParams((p) => setOrDrop(p, "sort", turned(p, key)), { replace: true })}
                    filter={field && narrows(field) && <ColumnFilter field={field} value={params.get(c.key) ?? ""} onChange={setFilter(c.key)} />}
                  />
                );
              })}
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
                      {c.cell(row, entries[row.id] ?? 0)}
                    </td>
                  ))}
                </tr>
              );
            })}
            {after > 0 && <tr style={{ height: after }} aria-hidden />}
          </tbody>
        </table>
        {pages.isPending && <Busy />}
        {pages.data && rows.length === 0 && (
          <Empty>
            {q || names.some((n) => params.get(n)) ? t("console.nothing_found", { word: q || t("console.table.filters") }) : t(`console.empty.${type}`)}
          </Empty>
        )}
      </div>
    </>
  );
}

/** ColumnChoice chooses what columns a table has: any field of what it lists. */
function ColumnChoice<T extends Listed>(props: { columns: Column<T>[]; shown: string[]; usual: string[]; onChange: (keys: string[] | undefined) => void }) {
  const { columns, shown, usual, onChange } = props;
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <button type="button" className="button px-2" aria-label={t("console.table.columns")} title={t("console.table.columns")}>
          <Columns3 size={15} aria-hidden />
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} className="sheet z-50 flex max-h-96 flex-col gap-0.5 overflow-auto p-3">
          {columns
            .filter((c) => c.key !== "name")
            .map((c) => (
              <CheckBox
                key={c.key}
                label={t(`console.field.${c.key}`)}
                checked={shown.includes(c.key)}
                onChange={(on) => {
                  const keys = columns.map((x) => x.key).filter((k) => (k === c.key ? on : shown.includes(k)));
                  onChange(keys.join() === usual.join() ? undefined : keys);
                }}
              />
            ))}
          <button type="button" className="button mt-2" onClick={() => onChange(undefined)}>
            {t("console.table.usual")}
          </button>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** TakeAway gives what a table shows, all of it, as a file for a spreadsheet. */
function TakeAway<T extends Listed>({ type, query, columns, disabled }: { type: T; query: ListQuery; columns: Column<T>[]; disabled: boolean }) {
  const take = useMutation({
    mutationFn: async () => {
      const { revision } = await session();
      const wanted = columns.map((c) => c.field ?? c.key);
      const fields = fieldsOf(type).filter((f) => wanted.includes(f.name));
      download(`${type}-${revision}.csv`, await tableText(type, query, fields, revision));
    },
  });
  return (
    <>
      <button
        type="button"
        className="button px-2"
        disabled={disabled || take.isPending}
        aria-label={t("console.table.csv")}
        title={t("console.table.csv")}
        onClick={() => take.mutate()}
      >
        <Download size={15} aria-hidden />
      </button>
      <Fault text={take.error ? problemOf(take.error) : undefined} />
    </>
  );
}

/** PickAll picks all that match what a table is narrowed down to, those that are not read yet among them. */
function PickAll<T extends Listed>({ type, query, total, onPick }: { type: T; query: ListQuery; total: number; onPick: (ids: string[]) => void }) {
  const pick = useMutation({
    mutationFn: () => everyPage(type, query, mostPicked),
    onSuccess: (rows) => onPick(rows.slice(0, mostPicked).map((r) => r.id)),
  });
  return (
    <p className="mb-2">
      <button type="button" className="button" disabled={pick.isPending} onClick={() => pick.mutate()}>
        {t(total > mostPicked ? "console.many.first_of" : "console.many.all_of", { n: number(Math.min(total, mostPicked)), total: number(total) })}
      </button>
      <Fault text={pick.error ? problemOf(pick.error) : undefined} />
    </p>
  );
}

/** Head is the head of a column. Pressed, it sorts by it; pressed again, from the end. */
function Head<T extends Listed>(props: { column: Column<T>; sort: string; onSort: (key: string) => void; filter?: ReactNode }) {
  const { column, sort, onSort, filter } = props;
  const { key, head, unsorted } = column;
  const way = sort === key ? "ascending" : sort === `-${key}` ? "descending" : undefined;
  return (
    <th scope="col" aria-sort={way} className="border-b border-line px-3 py-1 text-xs text-soft">
      <span className="flex items-center gap-0.5">
        {(head ?? unsorted) ? (
          (head ?? t(`console.field.${key}`))
        ) : (
          <button
            type="button"
            data-paper
            className="inline-flex min-h-[24px] min-w-[24px] cursor-pointer items-center gap-1 font-[550] hover:text-ink"
            onClick={() => onSort(key)}
          >
            {t(`console.field.${key}`)}
            {way === "ascending" && <ArrowUp size={12} aria-hidden />}
            {way === "descending" && <ArrowDown size={12} aria-hidden />}
          </button>
        )}
        {filter}
      </span>
    </th>
  );
}

/** pickColumn is a column of boxes by which many records are picked: one, all that are shown, or with Shift all from the last to this. */
function pickColumn<T extends Listed>(picked: string[], onPick: (ids: string[]) => void, rows: Row<T>[], last: { current: string | undefined }): Column<T> {
  const all = rows.length > 0 && rows.every((r) => picked.includes(r.id));
  const range = (id: string) => {
    const ids = rows.map((r) => r.id);
    const [a, b] = [ids.indexOf(last.current ?? id), ids.indexOf(id)];
    return a < 0 ? [id] : ids.slice(Math.min(a, b), Math.max(a, b) + 1);
  };
  const box = (label: string, checked: boolean, ids: (shift: boolean) => string[]) => (
    <input
      type="checkbox"
      className="size-4 align-middle accent-(--accent)"
      aria-label={label}
      checked={checked}
      onChange={(e) => {
        const some = ids((e.nativeEvent as MouseEvent).shiftKey);
        onPick(e.target.checked ? [...new Set([...picked, ...some])] : picked.filter((id) => !some.includes(id)));
        last.current = some.length > 0 ? some[some.length - 1] : undefined;
      }}
    />
  );
  return {
    key: "pick",
    width: "40px",
    head: box(t("console.many.all"), all, () => rows.map((r) => r.id)),
    cell: (r) =>
      box(t("console.many.pick", { name: titleOf(r) }), picked.includes(r.id), (shift) => {
        const some = shift ? range(r.id) : [r.id];
        return [...some.filter((id) => id !== r.id), r.id];
      }),
  };
}

function setOrDrop(params: URLSearchParams, name: string, value: string) {
  const next = new URLSearchParams(params);
  if (value) next.set(name, value);
  else next.delete(name);
  return next;
}
