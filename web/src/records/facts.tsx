import type { ReactNode } from "react";
import type { Row } from "../api/client";
import { GivenTo } from "../grants/lines";
import { RecordLink, RecordLinks } from "../ui/record-link";
import { StateMark } from "../ui/state-mark";
import { local } from "../ui/time";
import { spanText, windowText, type Window } from "../times/text";
import { t } from "../words";

/** Where a field of a record refers to, by its name. */
const refersTo: Record<string, string> = {
  implies: "rights",
  rights: "rights",
  kinds: "kinds",
  kind: "kinds",
  site: "sites",
  parent: "",
  includes: "user_groups",
  closed: "calendars",
  sites: "sites",
  groups: "user_groups",
};

/** Shown elsewhere on the page, or in its title. */
const elsewhere = ["id", "name", "lines", "members", "devices"];

/** Facts lists the fields of a record, each as people read it. */
export function Facts({ type, row }: { type: string; row: Row }) {
  const fields = Object.entries(row).filter(([name, v]) => !elsewhere.includes(name) && v !== "" && v !== null);
  return (
    <section className="sheet">
      <dl className="grid grid-cols-[9rem_1fr]">
        {fields.map(([name, value]) => (
          <div key={name} className="contents *:border-b *:border-line/60 *:px-4 *:py-2 last:*:border-0">
            <dt className="text-soft">{t(`console.field.${name}`)}</dt>
            <dd className="min-w-0 break-words">{show(type, name, value)}</dd>
          </div>
        ))}
        {fields.length === 0 && <p className="col-span-2 px-4 py-3 text-soft">{t("console.no_more")}</p>}
      </dl>
    </section>
  );
}

function show(type: string, name: string, value: unknown): ReactNode {
  if (name === "season" || name === "dates") {
    return spanText(value as { from?: string; to?: string });
  }
  if (name === "zone" && value === "site") return t("console.site_clock");
  if (name === "to") return <GivenTo to={value as never} />;
  if (name === "kind" && type === "users") return t(`console.value.${String(value)}`);
  if (["state", "status", "effect"].includes(name)) return <StateMark value={String(value)} />;
  if (name === "enabled") return <StateMark value={value ? "on" : "off"} />;
  if (name === "role") return t(`console.mandate.${String(value)}`);
  if (name === "parent") return <RecordLink type={type} id={String(value)} />;
  if (name in refersTo && typeof value === "string") return <RecordLink type={refersTo[name] ?? ""} id={value} />;
  if (name in refersTo && Array.isArray(value)) return <RecordLinks type={refersTo[name] ?? ""} ids={value as string[]} most={40} />;
  if (name === "windows") return <Rows items={(value as Window[]).map(windowText)} />;
  if (name === "special") {
    return (value as { calendar: string; windows: Window[] }[]).map((s) => (
      <div key={s.calendar}>
        <RecordLink type="calendars" id={s.calendar} />: {s.windows.map((w) => `${w.from}–${w.to}`).join(", ") || t("console.closed")}
      </div>
    ));
  }
  if (name === "days") {
    const days = value as { date?: string; from?: string; to?: string; name?: string }[];
    return <Rows items={days.map((d) => `${d.date ?? `${d.from ?? ""} – ${d.to ?? ""}`}  ${d.name ?? ""}`)} />;
  }
  if (name === "points") return <Rows items={(value as { id: string; name?: string }[]).map((p) => `${p.name ?? p.id}  (${p.id})`)} />;
  if (name === "match") {
    const m = value as { kinds?: string[]; tags?: string[]; sites?: string[] };
    return (
      <>
        {m.kinds && (
          <div>
            {t("console.field.kind")}: <RecordLinks type="kinds" ids={m.kinds} most={40} />
          </div>
        )}
        {m.tags && (
          <div>
            {t("console.field.tags")}: {m.tags.join(t("console.and"))}
          </div>
        )}
        {m.sites && (
          <div>
            {t("console.field.site")}: <RecordLinks type="sites" ids={m.sites} most={40} />
          </div>
        )}
      </>
    );
  }
  if (Array.isArray(value)) return value.join(", ");
  if (value && typeof value === "object") {
    return <Rows items={Object.entries(value).map(([k, v]) => `${t(`console.field.${k}`)}: ${plain(v)}`)} />;
  }
  return String(value);
}

/** plain writes a value inside an object; instants by the clock of UTC. */
function plain(v: unknown) {
  const text = String(v);
  return /^\d{4}-\d\d-\d\dT/.test(text) ? `${local(text, "UTC")} UTC` : text;
}

function Rows({ items }: { items: string[] }) {
  return (
    <ul className="tabular-nums">
      {items.map((text, i) => (
        <li key={i} className="whitespace-pre-wrap">
          {text}
        </li>
      ))}
    </ul>
  );
}
