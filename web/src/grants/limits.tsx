import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { list, type Line } from "../api/records";
import { ReadField, TextField } from "../ui/fields";
import { AddButton, TakeOut } from "../ui/form/generated";
import { t } from "../words";

type Limits = NonNullable<Line["limits"]>;
type Limit = Limits[string];

/** LimitsField is what the enforcement point is told to hold the user to: names, each with a number or some words. */
export function LimitsField({ value, onChange }: { value: Limits; onChange: (v: Limits) => void }) {
  // A row whose name is not typed yet is none of the record.
  const [rows, setRows] = useState<[string, Limit | undefined][]>(() => Object.entries(value));
  const known = useId();
  const grants = useQuery({ queryKey: ["options", "grants"], queryFn: () => list("grants", { limit: 200 }), staleTime: 60_000 }); // whose limits are likely the same
  const put = (next: [string, Limit | undefined][]) => {
    setRows(next);
    onChange(Object.fromEntries(next.flatMap(([name, v]) => (name.trim() && v !== undefined ? [[name.trim(), v]] : []))));
  };
  const set = (i: number, row: [string, Limit | undefined]) => put(rows.map((old, k) => (k === i ? row : old)));
  return (
    <fieldset className="flex flex-col gap-2 sm:col-span-2">
      <legend className="mb-1 text-xs font-medium text-soft">{t("console.field.limits")}</legend>
      {rows.map(([name, limit], i) => (
        <div key={i} className="flex items-end gap-2">
          <div className="w-40">
            <TextField label={t("console.grant.limit_name")} hint="minutes" list={known} value={name} onChange={(v) => set(i, [v, limit])} />
          </div>
          <div className="w-56">
            <ReadField
              label={t("console.grant.limit_value")}
              hint="30"
              value={limit}
              shown={(v) => (Array.isArray(v) ? v.join(", ") : String(v))}
              read={readLimit}
              onChange={(v) => set(i, [name, v])}
            />
          </div>
          <TakeOut name={name || String(i + 1)} onClick={() => put(rows.filter((_, k) => k !== i))} />
        </div>
      ))}
      <datalist id={known}>
        {[...new Set(grants.data?.items.flatMap((g) => g.lines?.flatMap((l) => Object.keys(l.limits ?? {})) ?? []))].map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      <AddButton label={t("console.grant.add_limit")} onClick={() => setRows([...rows, ["", undefined]])} />
    </fieldset>
  );
}

/** readLimit reads a number, or words parted by commas. */
function readLimit(text: string): Limit {
  const n = Number(text);
  if (!Number.isNaN(n)) return n;
  return text
    .split(",")
    .map((w) => w.trim())
    .filter(Boolean);
}
