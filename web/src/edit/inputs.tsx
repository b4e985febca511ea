import { Plus, X } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Choose } from "../ui/choose";
import { Picker } from "../ui/picker";
import { useNames } from "../ui/record-link";
import { t, timeFormat } from "../words";
import { LinesInput, ToInput } from "./lines-input";
import { WindowsInput } from "./windows-input";
import { TypedInput } from "./typed-input";
import { at, withField, type Field, type Value } from "./fields";

type Props = { label: string; value: Value; onChange: (v: Value) => void };

/** Labelled is an input with its label, its meaning and its fault. */
export function Labelled({ help, fault, children }: { help?: string; fault?: string; children: ReactNode }) {
  return (
    <div className="grid gap-x-6 gap-y-1 border-b border-line/60 px-4 py-3 last:border-0 md:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
      <div className="flex min-w-0 flex-col gap-1">
        {children}
        {fault && (
          <p role="alert" className="text-breaks">
            {fault}
          </p>
        )}
      </div>
      <p className="text-[0.86rem] leading-snug text-soft md:pt-5">{help}</p>
    </div>
  );
}

export function TextInput({ label, value, onChange, hint }: Props & { hint?: string }) {
  return (
    <label className="flex flex-col gap-1">
      <span className="text-xs font-medium text-soft">{label}</span>
      <input className="field" value={String(value ?? "")} placeholder={hint} onChange={(e) => onChange(e.target.value)} />
    </label>
  );
}

/** Refs is a set of records, each with a button that takes it out, and a picker that puts one in. */
export function Refs({ label, type, value, onChange }: Props & { type: string }) {
  const nameOf = useNames();
  const ids = (value as string[] | undefined) ?? [];
  return (
    <div className="flex flex-col gap-1.5">
      <Adder label={label} type={type} onAdd={(id) => !ids.includes(id) && onChange([...ids, id])} />
      <Chips ids={ids} shown={(id) => nameOf(type, id)} onDrop={(id) => onChange(ids.filter((i) => i !== id))} />
    </div>
  );
}

export function Chips({ ids, shown, onDrop }: { ids: string[]; shown: (id: string) => ReactNode; onDrop: (id: string) => void }) {
  if (ids.length === 0) return null;
  return (
    <ul className="flex flex-wrap gap-1.5">
      {ids.map((id) => (
        <li key={id} className="inline-flex items-center gap-1 rounded-full border border-line bg-sunk py-0.5 pr-1 pl-2.5">
          {shown(id)}
          <button
            type="button"
            className="cursor-pointer rounded-full p-0.5 hover:bg-line"
            aria-label={t("console.edit.take_out", { name: id })}
            onClick={() => onDrop(id)}
          >
            <X size={13} aria-hidden />
          </button>
        </li>
      ))}
    </ul>
  );
}

/** Adder picks a record and hands it on at once. */
export function Adder({ label, type, onAdd }: { label: string; type: string; onAdd: (id: string) => void }) {
  const [typed, setTyped] = useState("");
  return (
    <Picker
      label={label}
      type={type}
      value={typed}
      onChange={setTyped}
      onPick={(id) => {
        onAdd(id);
        setTyped("");
      }}
    />
  );
}

function Words({ label, value, onChange }: Props) {
  const words = (value as string[] | undefined) ?? [];
  const [typed, setTyped] = useState("");
  const add = () => {
    const word = typed.trim();
    if (word && !words.includes(word)) onChange([...words, word]);
    setTyped("");
  };
  return (
    <div className="flex flex-col gap-1.5">
      <label className="flex flex-col gap-1">
        <span className="text-xs font-medium text-soft">{label}</span>
        <input
          className="field"
          value={typed}
          placeholder={t("console.edit.word_hint")}
          onChange={(e) => setTyped(e.target.value)}
          onBlur={add}
          onKeyDown={(e) => {
            if (e.key !== "Enter" || !typed.trim()) return;
            e.preventDefault();
            add();
          }}
        />
      </label>
      <Chips ids={words} shown={(w) => w} onDrop={(w) => onChange(words.filter((x) => x !== w))} />
    </div>
  );
}

/** Instant is typed as RFC 3339, which says the zone; what the browser's clock makes of it stands below. */
function InstantInput(props: Props) {
  const text = String(props.value ?? "");
  const time = text ? new Date(text) : undefined;
  return (
    <>
      <TextInput {...props} hint="2026-12-01T17:00:00Z" />
      {time && !Number.isNaN(time.getTime()) && <p className="text-xs text-soft">{timeFormat({ dateStyle: "medium", timeStyle: "long" }).format(time)}</p>}
    </>
  );
}

type Entry = Record<string, Value>;

/** Rows is a list of small records, a row each. */
export function Rows({
  label,
  value,
  onChange,
  columns,
  fresh,
}: Props & { columns: { path: string; label: string; hint?: string; type?: string }[]; fresh: Entry }) {
  const rows = (value as Entry[] | undefined) ?? [];
  const set = (i: number, path: string, v: Value) => onChange(rows.map((r, k) => (k === i ? withField(r, path, v) : r)));
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{label}</legend>
      {rows.map((r, i) => (
        <div key={i} className="flex items-end gap-2">
          {columns.map((c) => (
            <div key={c.path} className="min-w-0 flex-1">
              {c.type ? (
                <Picker label={c.label} type={c.type} value={String(at(r, c.path) ?? "")} onChange={(v) => set(i, c.path, v)} />
              ) : (
                <TextInput label={c.label} hint={c.hint} value={at(r, c.path)} onChange={(v) => set(i, c.path, v)} />
              )}
            </div>
          ))}
          <button
            type="button"
            className="button px-2"
            aria-label={t("console.edit.take_out", { name: String(i + 1) })}
            onClick={() => onChange(rows.filter((_, k) => k !== i))}
          >
            <X size={15} aria-hidden />
          </button>
        </div>
      ))}
      <button type="button" className="button self-start" onClick={() => onChange([...rows, fresh])}>
        <Plus size={15} aria-hidden /> {t("console.edit.add")}
      </button>
    </fieldset>
  );
}

const text = (key: string) => t(`console.field.${key}`);

/** Input is the input for a field. */
export function Input({ field, ...props }: Props & { field: Field }) {
  switch (field.kind) {
    case "note":
      return (
        <label className="flex flex-col gap-1">
          <span className="text-xs font-medium text-soft">{props.label}</span>
          <textarea className="field min-h-20" value={String(props.value ?? "")} onChange={(e) => props.onChange(e.target.value)} />
        </label>
      );
    case "choice":
      return (
        <Choose
          label={props.label}
          value={String(props.value ?? "")}
          none={field.path.includes(".") ? t("console.edit.not_set") : undefined}
          options={(field.options ?? []).map((o) => ({ value: o, label: t(field.path === "role" ? `console.mandate.${o}` : `console.value.${o}`) }))}
          onChange={props.onChange}
        />
      );
    case "switch":
      return (
        <label className="flex items-center gap-2 py-1">
          <input type="checkbox" className="size-4 accent-(--accent)" checked={props.value !== false} onChange={(e) => props.onChange(e.target.checked)} />
          {props.label}
        </label>
      );
    case "ref":
      return <Picker label={props.label} type={field.type ?? ""} value={String(props.value ?? "")} onChange={props.onChange} />;
    case "refs":
      return <Refs {...props} type={field.type ?? ""} />;
    case "words":
      return <Words {...props} />;
    case "number":
      // What is no number is sent as it was typed: the service says what is wrong with it.
      return <TypedInput {...props} shown={(v) => String(v ?? "")} read={(t) => (t.trim() === "" ? undefined : Number.isNaN(Number(t)) ? t : Number(t))} />;
    case "instant":
      return <InstantInput {...props} />;
    case "points":
      return (
        <Rows
          {...props}
          fresh={{ id: "" }}
          columns={[
            { path: "id", label: text("id") },
            { path: "name", label: text("name") },
          ]}
        />
      );
    case "days":
      return (
        <Rows
          {...props}
          fresh={{ date: "" }}
          columns={[
            { path: "date", label: t("console.edit.one_day"), hint: "2026-12-25" },
            { path: "from", label: text("from"), hint: "2027-02-08" },
            { path: "to", label: t("console.edit.to"), hint: "2027-02-12" },
            { path: "name", label: text("name") },
          ]}
        />
      );
    case "members": {
      // A membership without ends is written as the user's id alone.
      const rows = ((props.value as (string | Entry)[] | undefined) ?? []).map((m) => (typeof m === "string" ? { user: m } : m));
      return (
        <Rows
          {...props}
          value={rows}
          fresh={{ user: "" }}
          columns={[
            { path: "user", label: text("user"), type: "users" },
            { path: "from", label: text("from") },
            { path: "until", label: text("until"), hint: "2026-12-01T17:00:00Z" },
          ]}
        />
      );
    }
    case "span": {
      const span = (props.value as Entry | undefined) ?? {};
      const hint = field.path === "season" ? "04-01" : "2026-11-02";
      return (
        <fieldset className="grid grid-cols-2 gap-2">
          <legend className="mb-1 text-xs font-medium text-soft">{props.label}</legend>
          <TextInput label={text("from")} hint={hint} value={span.from} onChange={(v) => props.onChange(withField(span, "from", v))} />
          <TextInput label={t("console.edit.to")} hint={hint} value={span.to} onChange={(v) => props.onChange(withField(span, "to", v))} />
        </fieldset>
      );
    }
    case "special":
      return <SpecialInput {...props} />;
    case "windows":
      return <WindowsInput {...props} />;
    case "to":
      return <ToInput {...props} />;
    case "lines":
      return <LinesInput {...props} />;
    default:
      return <TextInput {...props} />;
  }
}

/** SpecialInput gives the days of a calendar windows of their own, typed as 05:00-23:00. */
function SpecialInput({ label, value, onChange }: Props) {
  type Special = { calendar: string; windows: { from: string; to: string }[] };
  const rows = ((value as Special[] | undefined) ?? []).map((s) => ({ calendar: s.calendar, windows: s.windows.map((w) => `${w.from}-${w.to}`).join(", ") }));
  const parse = (r: Entry) => ({
    calendar: String(r.calendar ?? ""),
    windows: String(r.windows ?? "")
      .split(",")
      .filter((w) => w.trim())
      .map((w) => ({ from: w.split("-")[0]?.trim() ?? "", to: w.split("-")[1]?.trim() ?? "" })),
  });
  const [typed, setTyped] = useState<Entry[]>(rows);
  return (
    <Rows
      label={label}
      value={typed}
      onChange={(v) => {
        const next = (v as Entry[] | undefined) ?? [];
        setTyped(next);
        onChange(next.map(parse));
      }}
      fresh={{ calendar: "", windows: "" }}
      columns={[
        { path: "calendar", label: t("console.type.calendars"), type: "calendars" },
        { path: "windows", label: text("windows"), hint: "05:00-23:00" },
      ]}
    />
  );
}
