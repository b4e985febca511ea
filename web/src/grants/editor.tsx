import { ChevronDown, ChevronRight } from "lucide-react";
import { useState } from "react";
import type { Line } from "../api/records";
import { Choose } from "../ui/choose";
import { CheckBox, NoteField, TextField } from "../ui/fields";
import { AddButton, TakeOut } from "../ui/form/generated";
import { changedIn } from "../ui/form/lists";
import { Part } from "../ui/form/part";
import type { Form } from "../ui/form/use-record-form";
import { TimeField } from "../ui/time-field";
import { t } from "../words";
import { AllRights, What, WhenField, WhereField, Who, type Part as LinePart } from "./choices";
import { ConditionFields } from "./conditions";
import { LimitsField } from "./limits";
import { Sentence } from "./lines";

const label = (name: string) => t(`console.field.${name}`);

/** GrantFields asks in the order in which people think: who, what, where, when, only if. */
export function GrantFields({ form }: { form: Form<"grants"> }) {
  const { row, set, faultOf } = form;
  const effects = ["allow", "deny"] as const;
  return (
    <div className="sheet">
      <Part>
        <div className="grid gap-3 sm:grid-cols-[2fr_1fr]">
          <TextField label={label("name")} value={row.name ?? ""} onChange={(v) => set("name", v)} fault={faultOf("name") || faultOf("id")} />
          <Choose
            label={label("effect")}
            value={row.effect ?? "allow"}
            options={effects.map((v) => ({ value: v, label: t(`console.effect.${v}`) }))}
            onChange={(v) =>
              set(
                "effect",
                effects.find((e) => e === v),
              )
            }
          />
        </div>
      </Part>
      <Part fault={faultOf("to")}>
        <Who to={row.to ?? {}} onChange={(change) => set("to", (to) => change(to ?? {}))} />
      </Part>
      <Part fault={faultOf("lines")}>
        <Lines lines={row.lines ?? []} onChange={(change) => set("lines", (lines) => change(lines ?? []))} />
      </Part>
      <Part fault={faultOf("valid")}>
        <div className="grid gap-3 sm:grid-cols-2">
          <TimeField label={label("from")} value={row.valid?.from} onChange={(from) => set("valid", (valid) => ({ ...valid, from }))} />
          <TimeField label={label("until")} value={row.valid?.until} onChange={(until) => set("valid", (valid) => ({ ...valid, until }))} />
        </div>
      </Part>
      <Part fault={faultOf("note")}>
        <NoteField label={label("note")} value={row.note ?? ""} onChange={(v) => set("note", v)} />
        <CheckBox label={label("enabled")} checked={row.enabled !== false} onChange={(on) => set("enabled", on)} />
      </Part>
    </div>
  );
}

/** Lines are rows in words, each of which opens in place. */
function Lines({ lines, onChange }: { lines: Line[]; onChange: (change: (lines: Line[]) => Line[]) => void }) {
  const [open, setOpen] = useState<number | undefined>(lines.length === 1 && isBare(lines[0]) ? 0 : undefined);
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{t("console.lines")}</legend>
      {lines.map((line, i) => (
        <section key={i} aria-label={t("console.edit.line", { n: i + 1 })} className="rounded-lg border border-line">
          <div className="flex items-start gap-2 px-3 py-1.5">
            <button
              type="button"
              className="flex min-h-[24px] shrink-0 cursor-pointer items-center gap-1 text-xs text-soft hover:text-ink"
              aria-expanded={open === i}
              onClick={() => setOpen(open === i ? undefined : i)}
            >
              {open === i ? <ChevronDown size={14} aria-hidden /> : <ChevronRight size={14} aria-hidden />}
              {t("console.edit.line", { n: i + 1 })}
            </button>
            <p className="min-w-0 flex-1">
              <Sentence line={line} />
            </p>
            <TakeOut
              name={t("console.edit.line", { n: i + 1 })}
              onClick={() => {
                onChange((list) => list.filter((_, k) => k !== i));
                setOpen(undefined);
              }}
            />
          </div>
          {open === i && <LineFields line={line} onChange={(change) => onChange((list) => changedIn(list, i, line, change))} />}
        </section>
      ))}
      <AddButton
        label={t("console.edit.add_line")}
        onClick={() => {
          onChange((list) => [...list, { on: {} }]);
          setOpen(lines.length);
        }}
      />
    </fieldset>
  );
}

/** isBare tells whether nothing was said of a line yet. */
const isBare = (line?: Line) => !line?.roles?.length && !line?.rights?.length;

/** LineFields are the four choices of a line: what, where, when, only if; and its limits. */
function LineFields({ line, onChange }: LinePart) {
  return (
    <div className="grid gap-x-5 gap-y-3 border-t border-line/60 px-3 py-2.5 sm:grid-cols-2">
      <What line={line} onChange={onChange} />
      <WhereField line={line} onChange={onChange} />
      <WhenField line={line} onChange={onChange} />
      <ConditionFields value={line.if ?? {}} onChange={(change) => onChange((l) => ({ ...l, if: change(l.if ?? {}) }))} />
      <AllRights line={line} onChange={onChange} />
      <LimitsField value={line.limits ?? {}} onChange={(limits) => onChange((l) => ({ ...l, limits }))} />
    </div>
  );
}
