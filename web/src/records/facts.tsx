import type { ReactNode } from "react";
import { fieldsOf, membershipOf, type Listed, type Type } from "../api/records";
import type { RecordField, Records } from "../api/records.gen";
import { Rule } from "../device-groups/list";
import { GivenTo } from "../grants/lines";
import { monthDayText, windowText } from "../schedules/text";
import { valueText } from "../ui/form/generated";
import { RecordLink, RecordLinks } from "../ui/record-link";
import { StateMark } from "../ui/state-mark";
import { dayText, local } from "../ui/time";
import { useZone } from "../ui/time-field";
import { t } from "../words";

/** Facts lists the fields of a record, each as people read it. elsewhere are those that its page shows in another way. */
export function Facts({ type, row, elsewhere = [], title }: { type: Type; row: object; elsewhere?: string[]; title?: string }) {
  const zone = useZone({});
  const values: Record<string, unknown> = { ...row };
  const fields = fieldsOf(type).filter((f) => !["id", "name", ...elsewhere].includes(f.name) && isThere(values[f.name]));
  return (
    <section className="sheet">
      {title && <h2 className="border-b border-line px-4 py-2.5">{title}</h2>}
      {fields.length === 0 ? (
        <p className="px-4 py-3 text-soft">{t("console.no_more")}</p>
      ) : (
        <dl className="grid grid-cols-[9rem_1fr]">
          {fields.map((f) => (
            <div key={f.name} className="contents *:border-b *:border-line/60 *:px-4 *:py-2 last:*:border-0">
              <dt className="text-soft">{t(`console.field.${f.name}`)}</dt>
              <dd className="min-w-0 break-words">{show(f, values[f.name], zone)}</dd>
            </div>
          ))}
        </dl>
      )}
    </section>
  );
}

const isThere = (v: unknown) => v !== undefined && v !== null && v !== "" && !(Array.isArray(v) && v.length === 0);

/** What some objects are written as; all others are written field by field. */
const objects: { [path: string]: (value: never) => ReactNode } = {
  to: (v: Records["grants"]["to"]) => <GivenTo to={v} />,
  match: (v: Records["device_groups"]["match"]) => <Rule match={v} most={40} />,
  windows: windowText,
  days: (d: NonNullable<Records["calendars"]["days"]>[number]) =>
    `${d.date ? dayText(d.date) : `${d.from ? dayText(d.from) : "…"} – ${d.to ? dayText(d.to) : "…"}`}  ${d.name ?? ""}`,
  members: (m: NonNullable<Records["user_groups"]["members"]>[number]) => <RecordLink type="users" id={membershipOf(m).user} />,
  points: (p: NonNullable<Records["devices"]["points"]>[number]) => `${p.name ?? p.id}  (${p.id})`,
  special: (s: NonNullable<Records["schedules"]["special"]>[number]) => (
    <>
      <RecordLink type="calendars" id={s.calendar} />
      {t("console.colon")}
      {s.windows?.map((w) => `${w.from}–${w.to}`).join(", ") || t("console.closed")}
    </>
  ),
};

const marked = ["state", "status", "effect"];

/** show writes a value by the kind of its field. */
function show(f: RecordField, value: unknown, zone: string): ReactNode {
  if (f.many && Array.isArray(value)) {
    if (f.kind === "ref" && f.ref) return <RecordLinks type={f.ref as Listed} ids={value.map(String)} most={40} />;
    if (f.kind === "object") {
      return (
        <ul className="tabular-nums">
          {value.map((v, i) => (
            <li key={i} className="whitespace-pre-wrap">
              {showObject(f, v, zone)}
            </li>
          ))}
        </ul>
      );
    }
    return value.map((v) => (f.kind === "choice" ? valueText(f.name, String(v)) : String(v))).join(", ");
  }
  switch (f.kind) {
    case "object":
      return showObject(f, value, zone);
    case "ref":
      return <RecordLink type={f.ref ?? ""} id={String(value)} />;
    case "choice":
      return marked.includes(f.name) ? <StateMark value={String(value)} /> : valueText(f.name, String(value));
    case "switch":
    case "bool":
      return <StateMark value={value ? "on" : "off"} />;
    case "instant":
      return `${local(String(value), zone)} ${zone}`;
    case "date":
      return dayText(String(value));
    case "month_day":
      return monthDayText(String(value));
    case "zone":
      return value === "site" ? t("console.site_clock") : String(value);
    default:
      return <span className="whitespace-pre-line">{String(value)}</span>;
  }
}

function showObject(f: RecordField, value: unknown, zone: string): ReactNode {
  const own = objects[f.name];
  if (own) return own(value as never);
  const of: Record<string, unknown> = value && typeof value === "object" ? { ...value } : {};
  return (
    <ul className="tabular-nums">
      {f.fields
        ?.filter((x) => isThere(of[x.name]))
        .map((x) => (
          <li key={x.name}>
            {t(`console.field.${x.name}`)}
            {t("console.colon")}
            {show(x, of[x.name], zone)}
          </li>
        ))}
    </ul>
  );
}
