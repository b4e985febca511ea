import { ListFilter } from "lucide-react";
import { Popover } from "radix-ui";
import { useState } from "react";
import type { Listed } from "../api/records";
import type { RecordField } from "../api/records.gen";
import { t } from "../words";
import { Choose } from "./choose";
import { Combobox } from "./combobox";
import { valueText } from "./form/generated";
import { Name } from "./record-link";

/** What the service narrows lists down by: what can be told of a field by one word. */
const narrowing: RecordField["kind"][] = ["text", "id", "ref", "point", "choice", "switch", "bool", "zone"];

/** narrows tells whether a list can be narrowed down by a field. */
export const narrows = (f: RecordField) => narrowing.includes(f.kind);

const labelOf = (f: RecordField) => t(`console.field.${f.name}`);

/** ColumnFilter narrows a table down by one field: by what it can be, by what it refers to, or by a part of its text. */
export function ColumnFilter({ field, value, onChange }: { field: RecordField; value: string; onChange: (value: string) => void }) {
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <button
          type="button"

          className={`inline-flex size-[24px] shrink-0 cursor-pointer items-center justify-center rounded hover:text-ink print:hidden ${value ? "text-(--accent)" : "text-soft/60"}`}
          aria-label={t("console.table.filter", { field: labelOf(field) })}
          aria-pressed={value !== ""}
        >
          <ListFilter size={13} aria-hidden />
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="start" sideOffset={4} className="sheet z-50 w-60 p-3">
          <Narrowing field={field} value={value} onChange={onChange} />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Narrowing({ field, value, onChange }: { field: RecordField; value: string; onChange: (value: string) => void }) {
  const label = labelOf(field);
  if (field.kind === "ref") return <Combobox label={label} type={field.ref as Listed} value={value || undefined} onChange={(id) => onChange(id ?? "")} />;
  const options = optionsOf(field);
  if (options) return <Choose label={label} none={t("console.any")} value={value} options={options} onChange={onChange} />;
  return <Part label={label} value={value} onChange={onChange} />;
}

/** optionsOf are what a field can be, where that is one of a few. */
function optionsOf(field: RecordField) {
  if (field.kind === "choice") return (field.choices ?? []).map((c) => ({ value: c, label: valueText(field.name, c) }));
  if (field.kind === "switch" || field.kind === "bool")
    return ["true", "false"].map((v) => ({ value: v, label: t(`console.value.${v === "true" ? "yes" : "no"}`) }));
  return undefined;
}

/** Part is a part of a text. What is typed counts at once, so that whoever closes it right after typing has it too. */
function Part({ label, value, onChange }: { label: string; value: string; onChange: (value: string) => void }) {
  const [typed, setTyped] = useState(value);
  return (
    <label className="flex flex-col gap-1">
      <span className="text-xs font-medium text-soft">{t("console.table.holds", { field: label })}</span>
      <input
        className="field"
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          onChange(e.target.value);
        }}
      />
    </label>
  );
}

/** FilterText says what a table is narrowed down to by one field. */
export function FilterText({ field, value }: { field: RecordField; value: string }) {
  const known = optionsOf(field)?.find((o) => o.value === value)?.label;
  return (
    <>
      {labelOf(field)}
      {t("console.colon")}
      {field.kind === "ref" ? <Name type={field.ref as Listed} id={value} /> : (known ?? `“${value}”`)}
    </>
  );
}
