import type { Change } from "../api/edits";
import { RecordLink } from "../ui/record-link";
import { t } from "../words";

const signs: Record<string, string> = { added: "+", changed: "~", removed: "−" };

/** ChangeList says what a change did, or would do, record by record. */
export function ChangeList({ changes, none }: { changes: Change[]; none: string }) {
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
          </div>
          <div className="pl-5 font-medium">{c.op === "removed" ? c.name : <RecordLink type={c.type} id={c.id} name={c.name} />}</div>
          <ul className="pl-5 text-[0.86rem] text-soft">
            {c.fields?.map((f) => (
              <li key={f.field} className="break-words">
                {t([`console.field.${f.field.split(".").at(-1) ?? ""}`, f.field])}:{" "}
                {f.added || f.dropped
                  ? [...(f.added ?? []).map((v) => `+ ${short(v)}`), ...(f.dropped ?? []).map((v) => `− ${short(v)}`)].join(", ")
                  : `${short(f.before)} → ${short(f.after)}`}
              </li>
            ))}
          </ul>
        </li>
      ))}
    </ul>
  );
}

function short(value: unknown) {
  if (value === undefined) return t("console.edit.not_set");
  const text = typeof value === "string" ? value : JSON.stringify(value);
  return text.length > 80 ? `${text.slice(0, 80)}…` : text;
}
