import { X } from "lucide-react";
import { useId, useState, type ReactNode } from "react";
import { flushSync } from "react-dom";
import { t } from "../words";
import { useReading, whenReleased } from "./reading";

/** Labelled is the label of an input above it, and what is wrong with it below. */
export function Labelled({
  label,
  htmlFor,
  fault,
  hidden,
  children,
}: {
  label: string;
  htmlFor: string;
  fault?: string;
  hidden?: boolean;
  children: ReactNode;
}) {
  return (
    <div className="flex min-w-0 flex-col gap-1">
      <label htmlFor={htmlFor} className={hidden ? "sr-only" : "text-xs font-medium text-soft"}>
        {label}
      </label>
      {children}
      {fault && (
        <p role="alert" className="text-[0.86rem] text-breaks">
          {fault}
        </p>
      )}
    </div>
  );
}

type TextProps = { label: string; value: string; onChange: (v: string) => void; hint?: string; hidden?: boolean; fault?: string };

export function TextField({ label, value, onChange, hint, hidden, fault, list }: TextProps & { list?: string }) {
  const id = useId();
  return (
    <Labelled label={label} htmlFor={id} hidden={hidden} fault={fault}>
      <input
        id={id}
        className="field"
        list={list}
        value={value}
        placeholder={hint}
        aria-invalid={fault ? true : undefined}
        onChange={(e) => onChange(e.target.value)}
      />
    </Labelled>
  );
}

export function NoteField({ label, value, onChange }: TextProps) {
  const id = useId();
  return (
    <Labelled label={label} htmlFor={id}>
      <textarea id={id} className="field min-h-16" value={value} onChange={(e) => onChange(e.target.value)} />
    </Labelled>
  );
}

/** CheckBox is a choice of yes or no. */
export function CheckBox({ label, checked, onChange }: { label: ReactNode; checked: boolean; onChange: (on: boolean) => void }) {
  return (
    <label className="flex cursor-pointer items-center gap-2 py-0.5">
      <input type="checkbox" className="size-4 accent-(--accent)" checked={checked} onChange={(e) => onChange(e.target.checked)} />
      {label}
    </label>
  );
}

/**
 * ReadField is a text that stands for something else. What is typed stays as typed until the field is left or Enter is pressed; then it is
 * read once, and what is wrong with it is told below.
 */
export function ReadField<T>({
  label,
  hint,
  value,
  shown,
  read,
  onChange,
  hidden,
  list,
}: {
  label: string;
  hint?: string;
  value: T | undefined;
  shown: (v: T) => string;
  read: (text: string) => T | undefined | { fault: string };
  onChange: (v: T | undefined) => void;
  hidden?: boolean;
  list?: string;
}) {
  const id = useId();
  const reading = useReading();
  const [typed, setTyped] = useState<string>();
  const [fault, setFault] = useState("");
  const take = (text: string) => {
    const out = text.trim() === "" ? undefined : read(text.trim());
    flushSync(() => {
      setFault(isFault(out) ? out.fault : "");
      if (isFault(out)) return;
      setTyped(undefined);
      onChange(out);
    });
    return !isFault(out);
  };
  const leave = () => typed !== undefined && reading(whenReleased(() => take(typed)));
  return (
    <Labelled label={label} htmlFor={id} fault={fault} hidden={hidden}>
      <input
        id={id}
        className="field"
        list={list}
        placeholder={hint}
        aria-invalid={fault ? true : undefined}
        value={typed ?? (value === undefined ? "" : shown(value))}
        onChange={(e) => setTyped(e.target.value)}
        onBlur={leave}
        onKeyDown={(e) => e.key === "Enter" && leave()}
      />
    </Labelled>
  );
}

const isFault = (v: unknown): v is { fault: string } => typeof v === "object" && v !== null && "fault" in v;

/** WholeField is a whole number, chosen or typed. */
export function WholeField({ label, value, onChange }: { label: string; value: number | undefined; onChange: (v: number | undefined) => void }) {
  return (
    <ReadField
      label={label}
      value={value}
      shown={String}
      read={(text) => (/^\d{1,9}$/.test(text) ? Number(text) : { fault: t("console.form.no_number", { text }) })}
      onChange={onChange}
    />
  );
}

/** WordsField is a set of words, each added by Enter, a comma, or by leaving the field. */
export function WordsField({
  label,
  hint,
  value,
  onChange,
  check,
}: {
  label: string;
  hint?: string;
  value: string[];
  onChange: (v: string[]) => void;
  check?: (word: string) => string;
}) {
  const id = useId();
  const reading = useReading();
  const [typed, setTyped] = useState("");
  const [fault, setFault] = useState("");
  const take = (text: string) => {
    const words = text.split(/[,\s]+/).filter((w) => w && !value.includes(w));
    const wrong = words.map((w) => check?.(w) ?? "").find(Boolean) ?? "";
    flushSync(() => {
      setFault(wrong);
      if (wrong) return;
      setTyped("");
      if (words.length > 0) onChange([...value, ...new Set(words)]);
    });
    return wrong === "";
  };
  const add = () => (typed.trim() || fault) && reading(whenReleased(() => take(typed)));
  return (
    <Labelled label={label} htmlFor={id} fault={fault}>
      <input
        id={id}
        className="field"
        value={typed}
        placeholder={hint ?? t("console.edit.word_hint")}
        aria-invalid={fault ? true : undefined}
        onChange={(e) => setTyped(e.target.value)}
        onBlur={add}
        onKeyDown={(e) => {
          if (e.key !== "Enter" || !typed.trim()) return;
          e.preventDefault();
          add();
        }}
      />
      <Chips items={value.map((w) => ({ key: w, shown: w, name: w }))} onDrop={(w) => onChange(value.filter((x) => x !== w))} />
    </Labelled>
  );
}

/** Chips are things that were chosen, each with a button that takes it out. */
export function Chips({ items, onDrop }: { items: { key: string; shown: ReactNode; name: string }[]; onDrop: (key: string) => void }) {
  if (items.length === 0) return null;
  return (
    <ul className="flex flex-wrap gap-1.5">
      {items.map((c) => (
        <li key={c.key} className="inline-flex items-center gap-1 rounded-full border border-line bg-sunk pr-0.5 pl-2.5">
          {c.shown}
          <button
            type="button"
            className="grid size-[24px] cursor-pointer place-items-center rounded-full hover:bg-line"
            aria-label={t("console.edit.take_out", { name: c.name })}
            onClick={() => onDrop(c.key)}
          >
            <X size={13} aria-hidden />
          </button>
        </li>
      ))}
    </ul>
  );
}
