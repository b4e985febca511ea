import { Plus, X } from "lucide-react";
import { useEffect, useRef, type ReactNode } from "react";
import { fieldsOf, type Listed, type Row, type Type } from "../../api/records";
import type { RecordField } from "../../api/records.gen";
import { t } from "../../words";
import { Choose } from "../choose";
import { Adder, Combobox, ManyBox } from "../combobox";
import { CheckBox, Chips, NoteField, TextField, WholeField, WordsField } from "../fields";
import { DateField, TimeField } from "../time-field";
import { ZoneField } from "../zone-field";
import { named } from "./ids";
import { changedIn } from "./lists";
import type { Form } from "./use-record-form";

/** Asked is a field with its meaning beside it, or below it where it is wide, and what the service says is wrong with it. */
function Asked({ help, fault, wide, children }: { help?: string; fault?: string; wide: boolean; children: ReactNode }) {
  const beside = wide ? "" : "md:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]";
  return (
    <div className={`grid gap-x-6 gap-y-1 border-b border-line/60 px-4 py-2.5 last:border-0 ${beside}`}>
      <div className="flex min-w-0 flex-col gap-1">
        {children}
        {fault && (
          <p role="alert" className="text-breaks">
            {fault}
          </p>
        )}
      </div>
      <p className={`text-[0.86rem] leading-snug text-soft ${wide ? "" : "md:pt-5"}`}>{help}</p>
    </div>
  );
}

const labelOf = (name: string) => t(`console.field.${name}`);

/** helpOf is what a field of a type means. */
export const helpOf = (type: Type, name: string) => t([`console.help.${type}.${name}`, `console.help.${name}`, "console.help.none"]);

type GeneratedProps<T extends Type> = {
  form: Form<T>;
  /** own are the inputs that the thing has of its own, by field. */
  own?: { [K in keyof Row<T> & string]?: ReactNode };
  /** wide are fields that take the whole width. */
  wide?: (keyof Row<T> & string)[];
  /** elsewhere are fields that belong to another act. */
  elsewhere?: (keyof Row<T> & string)[];
};

/** Generated asks for the fields of a record, in the order of a document: each by the input that its descriptor calls for. */
export function Generated<T extends Type>({ form, own = {}, wide = [], elsewhere = [] }: GeneratedProps<T>) {
  const values: Record<string, unknown> = { ...form.row };
  const inputs: Record<string, ReactNode> = own;
  const named = fieldsOf(form.type).filter((f) => f.kind !== "id" && !elsewhere.some((e) => e === f.name));
  return (
    <div className="sheet">
      {named.map((f) => (
        <Asked key={f.name} wide={wide.some((w) => w === f.name)} help={helpOf(form.type, f.name)} fault={form.faultOf(f.name as keyof Row<T> & string)}>
          {inputs[f.name] ?? (
            <Input type={form.type} field={f} value={values[f.name]} onChange={(change) => form.set(f.name as keyof Row<T> & string, change as never)} />
          )}
          {f.name === "name" && form.isNew && <IDField form={form} />}
        </Asked>
      ))}
    </div>
  );
}

/** IDField lets one choose an id where the one that is made from the name will not do. */
function IDField<T extends Type>({ form }: { form: Form<T> }) {
  return (
    <details className="mt-1">
      <summary className="link w-fit cursor-pointer text-xs">{t("console.form.own_id")}</summary>
      <div className="mt-1 flex flex-col gap-1">
        <TextField label={labelOf("id")} value={form.row.id ?? ""} onChange={(v) => form.set("id", v as never)} fault={form.faultOf("id")} />
        <p className="text-xs text-soft">{helpOf(form.type, "id")}</p>
      </div>
    </details>
  );
}

/** of is the object that a field is in. */
type InputProps = { type: Type; field: RecordField; of?: string; value: unknown; onChange: (change: (old: unknown) => unknown) => void };

const text = (v: unknown) => (typeof v === "string" ? v : "");
const texts = (v: unknown) => (Array.isArray(v) ? v.filter((x) => typeof x === "string") : []);
const whole = (v: unknown) => (typeof v === "number" ? v : undefined);
const object = (v: unknown): Record<string, unknown> => (v && typeof v === "object" && !Array.isArray(v) ? { ...v } : {});

/** valueText is one of the choices of a field, as people read it. */
export const valueText = (field: string, value: string) => t(field === "role" ? `console.mandate.${value}` : `console.value.${value}`);

/** Input is the input that a field calls for. */
function Input({ type, field, of, value, onChange: change }: InputProps) {
  const onChange = (v: unknown) => change(() => v);
  const label = t([`console.field.${of}_${field.name}`, `console.field.${field.name}`]);
  const ref = field.ref as Listed | undefined;
  switch (field.kind) {
    case "ref":
      if (!ref) return null;
      return field.many ? (
        <ManyBox label={label} type={ref} value={texts(value)} onChange={onChange} />
      ) : (
        <Combobox label={label} type={ref} value={text(value)} onChange={onChange} />
      );
    case "point":
      return <PointsBox label={label} value={texts(value)} onChange={onChange} />;
    case "choice":
      return field.many ? (
        <Several label={label} field={field} value={texts(value)} onChange={onChange} />
      ) : (
        <Choose
          label={label}
          value={text(value)}
          none={field.required || text(value) ? undefined : t("console.edit.not_set")}
          options={(field.choices ?? []).map((c) => ({ value: c, label: valueText(field.name, c) }))}
          onChange={onChange}
        />
      );
    case "switch":
      return <CheckBox label={label} checked={value !== false} onChange={onChange} />;
    case "bool":
      return <CheckBox label={label} checked={value === true} onChange={(on) => onChange(on || undefined)} />;
    case "number":
      return <WholeField label={label} value={whole(value)} onChange={onChange} />;
    case "instant":
      return <TimeField label={label} value={text(value) || undefined} onChange={onChange} />;
    case "date":
      return <DateField label={label} value={text(value) || undefined} onChange={onChange} />;
    case "zone":
      return <ZoneField label={label} value={text(value)} onChange={onChange} site={type === "schedules"} />;
    case "object":
      return field.many ? (
        <Rows type={type} field={field} value={value} onChange={change} />
      ) : (
        <Parts type={type} field={field} value={value} onChange={change} />
      );
    default:
      if (field.many) return <WordsField label={label} value={texts(value)} onChange={onChange} />;
      if (field.long) return <NoteField label={label} value={text(value)} onChange={onChange} />;
      return <TextField label={label} value={text(value)} onChange={onChange} />;
  }
}

/** Parts are the fields of an object. */
function Parts({ type, field, value, onChange }: InputProps) {
  const of = object(value);
  return (
    <fieldset className="grid gap-x-3 gap-y-2 sm:grid-cols-2">
      <legend className="mb-1 text-xs font-medium text-soft">{labelOf(field.name)}</legend>
      {field.fields?.map((f) => (
        <Input
          key={f.name}
          type={type}
          field={f}
          of={field.name}
          value={of[f.name]}
          onChange={(change) => onChange((old) => ({ ...object(old), [f.name]: change(object(old)[f.name]) }))}
        />
      ))}
    </fieldset>
  );
}

/** Rows is a list of small objects, a row each. */
function Rows({ type, field, value, onChange }: InputProps) {
  const rowsOf = (v: unknown) => (Array.isArray(v) ? v.map(object) : []);
  const rows = rowsOf(value);
  const list = useRef<HTMLFieldSetElement>(null);
  const added = useRef(false);
  useEffect(() => {
    if (!added.current) return;
    added.current = false;
    list.current?.querySelector<HTMLElement>(":scope > div:last-of-type :is(input, textarea, button)")?.focus(); // one goes on typing
  }, [rows.length]);
  const asked = named(field) ? field.fields?.filter((f) => f.kind !== "id") : field.fields;
  return (
    <fieldset ref={list} className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{labelOf(field.name)}</legend>
      {rows.map((r, i) => (
        <div key={i} className="flex items-end gap-2">
          {asked?.map((f) => (
            <div key={f.name} className="min-w-0 flex-1">
              <Input
                type={type}
                field={f}
                value={r[f.name]}
                onChange={(change) => onChange((old) => changedIn(rowsOf(old), i, r, (x) => ({ ...x, [f.name]: change(x[f.name]) })))}
              />
            </div>
          ))}
          <TakeOut name={String(i + 1)} onClick={() => onChange((old) => rowsOf(old).filter((_, k) => k !== i))} />
        </div>
      ))}
      <AddButton
        label={t("console.edit.add")}
        onClick={() => {
          added.current = true;
          onChange((old) => [...rowsOf(old), {}]);
        }}
      />
    </fieldset>
  );
}

export function TakeOut({ name, onClick }: { name: string; onClick: () => void }) {
  return (
    <button
      type="button"
      className="grid size-[26px] shrink-0 cursor-pointer place-items-center rounded-md text-soft hover:bg-sunk hover:text-ink"
      aria-label={t("console.edit.take_out", { name })}
      onClick={onClick}
    >
      <X size={15} aria-hidden />
    </button>
  );
}

export function AddButton({ label, onClick }: { label: string; onClick: () => void }) {
  return (
    <button type="button" className="button self-start" onClick={onClick}>
      <Plus size={15} aria-hidden /> {label}
    </button>
  );
}

/** Several are some of a few choices. */
function Several({ label, field, value, onChange }: { label: string; field: RecordField; value: string[]; onChange: (v: string[]) => void }) {
  return (
    <fieldset className="flex flex-wrap gap-x-4">
      <legend className="mb-1 text-xs font-medium text-soft">{label}</legend>
      {field.choices?.map((c) => (
        <CheckBox
          key={c}
          label={valueText(field.name, c)}
          checked={value.includes(c)}
          onChange={(on) => onChange((field.choices ?? []).filter((x) => (x === c ? on : value.includes(x))))}
        />
      ))}
    </fieldset>
  );
}

/** PointsBox is a set of points of devices. */
function PointsBox({ label, value, onChange }: { label: string; value: string[]; onChange: (v: string[]) => void }) {
  return (
    <div className="flex flex-col gap-1.5">
      <Adder label={label} types={["points"]} onPick={(c) => !value.includes(c.id) && onChange([...value, c.id])} />
      <Chips items={value.map((id) => ({ key: id, shown: id, name: id }))} onDrop={(id) => onChange(value.filter((x) => x !== id))} />
    </div>
  );
}
