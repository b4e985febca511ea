import type { ReactNode } from "react";
import type { Change } from "../api/edits";
import { RecordLink } from "../ui/record-link";
import { labelOf, number, t } from "../words";

const signs: Record<string, string> = { added: "+", changed: "~", removed: "−" };

/** ChangeList says what a change did, or would do, record by record; beside stands at each. */
export function ChangeList({ changes, none, beside }: { changes: Change[]; none: string; beside?: (c: Change) => ReactNode }) {
  if (changes.length === 0) return <p className="text-soft">{none}</p>;
  return (
    <ul className="flex flex-col gap-2.5">
      {changes.map((c) => (
        <li key={`${c.type}/${c.id}`}>
          <div className="flex items-baseline gap-2">
            <span className="w-3 font-mono font-semibold" aria-hidden>
              {signs[c.op]}
            </span>
            <span className="text-xs text-soft">
              {t(`console.op.${c.op}`)} {t(`console.type.${c.type}`)}
            </span>
            {beside?.(c)}
          </div>
          <div className="pt-1 pl-5 font-medium">{c.op === "removed" ? c.name : <RecordLink type={c.type} id={c.id} name={c.name} />}</div>
          <ul className="pl-5 text-[0.86rem] text-soft">
            {c.fields?.map((f) => (
              <li key={f.field} className="break-words">
                {labelOf(f.field.split(".").at(-1) ?? "") ?? f.field}
                {t("console.colon")}
                {said(f)}
              </li>
            ))}
          </ul>
        </li>
      ))}
    </ul>
  );
}

/** said is what became of a field. What is no plain value is only said to have changed: the form, or the page, shows it as people read it. */
export function said(f: NonNullable<Change["fields"]>[number]) {
  if (f.added || f.dropped) return [...(f.added ?? []).map((v) => `+ ${short(v)}`), ...(f.dropped ?? []).map((v) => `− ${short(v)}`)].join(", ");
  if (!isPlain(f.before) || !isPlain(f.after))
    return t(f.before === undefined ? "console.op.added" : f.after === undefined ? "console.op.removed" : "console.op.changed");
  return `${short(f.before)} → ${short(f.after)}`;
}

/** isPlain tells whether a value can be written in a line: a text, a number, or a list of them. */
const isPlain = (v: unknown): boolean => (Array.isArray(v) ? v.every((x) => typeof x !== "object") : typeof v !== "object" || v === null);

const longest = 80;

function short(value: unknown): string {
  if (value === undefined || value === null) return t("console.edit.not_set");
  if (typeof value === "boolean") return t(`console.value.${value ? "on" : "off"}`);
  const text = Array.isArray(value) ? value.join(", ") : typeof value === "object" ? Object.values(value).join(" ") : String(value);
  return text.length > longest ? `${text.slice(0, longest)}…` : text;
}

const mostChanges = 50;

/** SomeChanges lists the first of what was changed, and says how many records it was besides. */
export function SomeChanges({ changes, all, none }: { changes: Change[]; all: number; none: string }) {
  const first = changes.slice(0, mostChanges);
  return (
    <>
      <ChangeList changes={first} none={none} />
      {all > first.length && <p className="text-soft">{t("console.and_more", { n: number(all - first.length) })}</p>}
    </>
  );
}
