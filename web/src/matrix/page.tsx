import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { Dialog } from "radix-ui";
import { ArrowDownWideNarrow, Download, Pin } from "lucide-react";
import { useMemo, useRef, useState } from "react";
import { matrix, type Cell, type Matrix } from "../api/reach";
import { CircumstanceFields, circumstances, contextOf, type Circumstances } from "../check/circumstances";
import { useAddress } from "../ui/address";
import { Choose } from "../ui/choose";
import { Busy, Empty, Trouble } from "../ui/notice";
import { Combobox } from "../ui/combobox";
import { TimeField } from "../ui/time-field";
import { Instant } from "../ui/time";
import { usePrinting } from "../ui/use-printing";
import { t } from "../words";
import { CellTrail, type Spot } from "./cell";
import { cellText, marksOf, rightsOf, type Marks } from "./marks";
import { Paper } from "./paper";

const rowHeight = 28;
const columnWidth = 74;
const headWidth = 264;

/** The matrix: people or groups against devices, device groups or sites. What is asked stands in the address. */
export function MatrixPage() {
  const [params, setParams] = useAddress();
  const get = (name: string, standard = "") => params.get(name) ?? standard;
  const set = (values: Record<string, string>) =>
    setParams((p) => {
      const next = new URLSearchParams(p);
      for (const [name, v] of Object.entries(values)) {
        if (v) next.set(name, v);
        else next.delete(name);
      }
      return next;
    });
  const rows = get("rows", "user_groups");
  const columns = get("columns", "sites");
  const where = Object.fromEntries(circumstances.map((c) => [c, get(c)])) as Circumstances;
  const question = {
    rows: { type: rows as "users", q: get("rq") || undefined, filter: rows === "users" && get("group") ? { group: get("group") } : undefined },
    columns: { type: columns as "devices", q: get("cq") || undefined, filter: columns === "devices" && get("site") ? { site: get("site") } : undefined },
    at: get("at") || undefined,
    context: contextOf(where),
  };
  const found = useQuery({ queryKey: ["matrix", question], queryFn: () => matrix(question), placeholderData: (before) => before });
  return (
    <>
      <h1 className="mb-3">{t("console.place.matrix")}</h1>
      <div className="mb-3 flex flex-wrap items-end gap-3 print:hidden">
        <div className="w-40">
          <Choose label={t("console.matrix.rows")} value={rows} options={kinds("users", "user_groups")} onChange={(v) => set({ rows: v, group: "" })} />
        </div>
        {rows === "users" && (
          <div className="w-48">
            <Combobox label={t("console.matrix.in_group")} type="user_groups" value={get("group")} onChange={(v) => set({ group: v ?? "" })} />
          </div>
        )}
        <Word label={t("console.matrix.filter_rows")} value={get("rq")} onChange={(v) => set({ rq: v })} />
        <div className="w-40">
          <Choose
            label={t("console.matrix.columns")}
            value={columns}
            options={kinds("devices", "device_groups", "sites")}
            onChange={(v) => set({ columns: v, site: "" })}
          />
        </div>
        {columns === "devices" && (
          <div className="w-48">
            <Combobox label={t("console.matrix.in_site")} type="sites" value={get("site")} onChange={(v) => set({ site: v ?? "" })} />
          </div>
        )}
        <Word label={t("console.matrix.filter_columns")} value={get("cq")} onChange={(v) => set({ cq: v })} />
        <TimeField label={t("console.matrix.at")} hint={t("console.check.at_hint")} value={get("at") || undefined} onChange={(v) => set({ at: v ?? "" })} />
        <details className="basis-full" open={Object.values(where).some(Boolean)}>
          <summary className="link w-fit cursor-pointer text-[0.86rem]">{t("console.circumstances.title")}</summary>
          <div className="mt-2 grid gap-3 md:grid-cols-4">
            <CircumstanceFields value={where} onChange={(part, v) => set({ [part]: v })} />
          </div>
        </details>
      </div>
      {found.error && <Trouble error={found.error} />}
      {found.isPending && <Busy />}
      {found.data && <Sheet key={`${rows} ${columns}`} m={found.data} rows={rows} columns={columns} at={get("at")} />}
    </>
  );
}

const kinds = (...types: string[]) => types.map((type) => ({ value: type, label: t(`console.types.${type}`) }));

function Word({ label, hint, value, onChange }: { label: string; hint?: string; value: string; onChange: (v: string) => void }) {
  const [typed, setTyped] = useState(value);
  return (
    <label className="flex w-44 flex-col gap-1">
      <span className="text-xs font-medium text-soft">{label}</span>
      <input
        className="field"
        value={typed}
        placeholder={hint}
        onChange={(e) => setTyped(e.target.value)}
        onBlur={() => typed !== value && onChange(typed)}
        onKeyDown={(e) => e.key === "Enter" && onChange(typed)}
      />
    </label>
  );
}

/** order puts the pinned first, then sorts by how much there is, or leaves the order of the list. */
function order(n: number, pinned: Set<number>, weight: ((i: number) => number) | undefined) {
  return Array.from({ length: n }, (_, i) => i).sort((a, b) => Number(pinned.has(b)) - Number(pinned.has(a)) || (weight ? weight(b) - weight(a) : 0) || a - b);
}

function Sheet({ m, rows, columns, at }: { m: Matrix; rows: string; columns: string; at: string }) {
  const [spot, setSpot] = useState<Spot>();
  const [pinnedRows, setPinnedRows] = useState(new Set<number>());
  const [pinnedColumns, setPinnedColumns] = useState(new Set<number>());
  const [byAmount, setByAmount] = useState(false);
  const marks = useMemo(() => marksOf(rightsOf(m.kinds)), [m]);
  const shown = useMemo(() => m.kinds.map((k) => cellText(k, marks)), [m, marks]);
  const printing = usePrinting();
  const weights = useMemo(() => m.kinds.map((k) => k.rights.length * 2 + (k.some?.length ?? 0)), [m]);
  const amounts = useMemo(() => {
    const row = m.rows.map((_, r) => (m.cells[r] ?? []).reduce((sum, n) => sum + (weights[n] ?? 0), 0));
    const column = m.columns.map((_, c) => m.cells.reduce((sum, line) => sum + (weights[line[c] ?? 0] ?? 0), 0));
    return { row, column };
  }, [m, weights]);
  const rowOrder = useMemo(() => order(m.rows.length, pinnedRows, byAmount ? (i) => amounts.row[i] ?? 0 : undefined), [m, pinnedRows, byAmount, amounts]);
  const columnOrder = useMemo(
    () => order(m.columns.length, pinnedColumns, byAmount ? (i) => amounts.column[i] ?? 0 : undefined),
    [m, pinnedColumns, byAmount, amounts],
  );
  const scroller = useRef<HTMLDivElement>(null);
  const down = useVirtualizer({ count: rowOrder.length, getScrollElement: () => scroller.current, estimateSize: () => rowHeight, overscan: 4 });
  const across = useVirtualizer({
    count: columnOrder.length,
    horizontal: true,
    getScrollElement: () => scroller.current,
    estimateSize: () => columnWidth,
    overscan: 2,
  });
  if (printing) {
    return (
      <>
        <Instant at={m.at} zone={m.zone} />
        <Legend marks={marks} />
        <Paper m={m} marks={marks} rows={rowOrder} columns={columnOrder} />
      </>
    );
  }
  if (m.rows.length === 0 || m.columns.length === 0) return <Empty>{t("console.matrix.empty")}</Empty>;
  const toggle = (set: Set<number>, i: number) => new Set(set.has(i) ? [...set].filter((x) => x !== i) : [...set, i]);
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <p className="text-soft tabular-nums" role="status">
          {t("console.matrix.size", { rows: m.rows.length, rows_of: m.rows_of, columns: m.columns.length, columns_of: m.columns_of })}
        </p>
        <Instant at={m.at} zone={m.zone} />
        <button type="button" className="button ml-auto" aria-pressed={byAmount} onClick={() => setByAmount(!byAmount)}>
          <ArrowDownWideNarrow size={15} aria-hidden /> {t("console.matrix.by_amount")}
        </button>
        <button type="button" className="button" onClick={() => save(m)}>
          <Download size={15} aria-hidden /> {t("console.matrix.export")}
        </button>
      </div>
      <div
        ref={scroller}
        className="sheet relative h-[calc(100vh-16rem)] min-h-64 overflow-auto"
        tabIndex={0}
        role="region"
        aria-label={t("console.place.matrix")}
      >
        <div style={{ height: down.getTotalSize() + 76, width: across.getTotalSize() + headWidth }} className="relative">
          <div className="sticky top-0 z-20 h-[76px] bg-sheet" style={{ width: across.getTotalSize() + headWidth }}>
            <div className="sticky left-0 z-30 h-[76px] border-r border-b border-line bg-sheet" style={{ width: headWidth }} />
            {across.getVirtualItems().map((v) => {
              const c = columnOrder[v.index] ?? 0;
              return (
                <div
                  key={v.key}
                  className="absolute top-0 flex h-[76px] flex-col justify-end border-r border-b border-line/60 px-1 pb-1 text-xs leading-tight"
                  style={{ left: headWidth + v.start, width: columnWidth }}
                >
                  <PinButton on={pinnedColumns.has(c)} name={m.columns[c]?.name ?? ""} onPin={() => setPinnedColumns(toggle(pinnedColumns, c))} />
                  <span className="line-clamp-3 break-words" title={m.columns[c]?.name}>
                    {m.columns[c]?.name}
                  </span>
                </div>
              );
            })}
          </div>
          {down.getVirtualItems().map((v) => {
            const r = rowOrder[v.index] ?? 0;
            const line = m.cells[r] ?? [];
            return (
              <div
                key={v.key}
                className="absolute left-0 flex"
                style={{ top: v.start + 76, height: rowHeight, width: across.getTotalSize() + headWidth }}
                data-row={m.rows[r]?.id}
              >
                <div
                  className="sticky left-0 z-10 flex items-center gap-1 border-r border-b border-line/60 bg-sheet px-2 text-[0.9rem]"
                  style={{ width: headWidth }}
                >
                  <span className="min-w-0 flex-1 truncate" title={m.rows[r]?.name}>
                    {m.rows[r]?.name}
                  </span>
                  <PinButton on={pinnedRows.has(r)} name={m.rows[r]?.name ?? ""} onPin={() => setPinnedRows(toggle(pinnedRows, r))} />
                </div>
                {across.getVirtualItems().map((h) => {
                  const c = columnOrder[h.index] ?? 0;
                  const n = line[c] ?? 0;
                  const cell = m.kinds[n];
                  const text = shown[n];
                  return (
                    <button
                      key={h.key}
                      type="button"
                      className="absolute cursor-pointer overflow-hidden border-r border-b border-line/60 px-1 font-mono text-[0.8rem] whitespace-nowrap hover:bg-sunk"
                      style={{ left: headWidth + h.start, width: columnWidth, height: rowHeight, background: tint(cell) }}
                      title={cell ? spoken(cell) : undefined}
                      aria-label={`${text ?? ""} ${m.rows[r]?.name ?? ""}, ${m.columns[c]?.name ?? ""}: ${cell ? spoken(cell) : ""}`}
                      onClick={() => {
                        const [row, column] = [m.rows[r], m.columns[c]];
                        if (row && column && cell) setSpot({ row, column, rowType: rows, columnType: columns, cell, at });
                      }}
                    >
                      {text}
                    </button>
                  );
                })}
              </div>
            );
          })}
        </div>
      </div>
      <Legend marks={marks} />
      <Dialog.Root open={spot !== undefined} onOpenChange={(open) => !open && setSpot(undefined)}>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
          <Dialog.Content
            aria-describedby={undefined}
            className="sheet fixed top-[8vh] left-1/2 z-50 flex max-h-[84vh] w-[min(94vw,56rem)] -translate-x-1/2 flex-col gap-4 overflow-auto p-6"
          >
            {spot && (
              <>
                <Dialog.Title className="text-lg font-semibold">
                  {spot.row.name} · {spot.column.name}
                </Dialog.Title>
                <CellTrail spot={spot} />
                <Dialog.Close className="button self-end">{t("console.close")}</Dialog.Close>
              </>
            )}
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
    </>
  );
}

function PinButton({ on, name, onPin }: { on: boolean; name: string; onPin: () => void }) {
  return (
    <button
      type="button"
      aria-pressed={on}
      aria-label={t("console.matrix.pin", { name })}
      className={`flex size-[24px] shrink-0 cursor-pointer items-center justify-center rounded hover:bg-sunk ${on ? "text-accent" : "text-soft/70"}`}
      onClick={onPin}
    >
      <Pin size={13} aria-hidden fill={on ? "currentColor" : "none"} />
    </button>
  );
}

const spoken = (k: Cell) =>
  [
    k.rights.join(" ") || t("console.matrix.none"),
    k.some?.length && `${t("console.matrix.some")}: ${k.some.join(" ")}`,
    k.later?.length && `${t("console.degree.later")}: ${k.later.join(" ")}`,
    k.if?.length && `${t("console.degree.if")}: ${k.if.join(" ")}`,
  ]
    .filter(Boolean)
    .join("; ");

/** tint is how strongly a cell is filled: its letters tell what it holds. */
function tint(k: Cell | undefined) {
  if (!k || k.rights.length + (k.some?.length ?? 0) === 0) return undefined;
  const strength = k.rights.includes("control") ? 26 : k.rights.length > 0 ? 13 : 6;
  return `color-mix(in srgb, var(--holds) ${strength}%, transparent)`;
}

function Legend({ marks }: { marks: Marks }) {
  return (
    <p className="mt-2 text-[0.86rem] text-soft">
      {[...marks].map(([right, mark]) => (
        <span key={right} className="mr-3">
          <b className="font-mono text-ink">{mark}</b> {right}
        </span>
      ))}
      <span className="mr-3">
        <b className="font-mono text-ink">( )</b> {t("console.matrix.some")}
      </span>
      <span className="mr-3">
        <b className="font-mono text-ink">+</b> {t("console.degree.later_help")}
      </span>
      <span>
        <b className="font-mono text-ink">?</b> {t("console.degree.if_help")}
      </span>
    </p>
  );
}

/** spelled writes a cell out: rights that hold only later, or in other circumstances, are marked as such. */
const spelled = (k: Cell | undefined) =>
  k
    ? [...k.rights, ...(k.some ?? []).map((r) => `some:${r}`), ...(k.later ?? []).map((r) => `later:${r}`), ...(k.if ?? []).map((r) => `if:${r}`)].join(" ")
    : "";

/** save writes the sheet as CSV, RFC 4180. */
function save(m: Matrix) {
  const quote = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
  const lines = [["", ...m.columns.map((c) => c.id)], ...m.rows.map((row, r) => [row.id, ...(m.cells[r] ?? []).map((n) => spelled(m.kinds[n]))])];
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([lines.map((l) => l.map(quote).join(",")).join("\r\n")], { type: "text/csv" }));
  link.download = "matrix.csv";
  link.click();
  URL.revokeObjectURL(link.href);
}
