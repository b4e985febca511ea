import { Plus, X } from "lucide-react";
import { useState } from "react";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { CheckBox, NoteField, TextField } from "../ui/fields";
import { Fault } from "../ui/notice";
import { ZoneField } from "../ui/zone-field";
import { t } from "../words";
import { Part, type PartProps } from "./part";

type Feed = { url?: string; secret?: string; authority?: string };

/** FeedFields asks from where a file is read; without an address it is brought. */
function FeedFields({
  of,
  name,
  label = t("console.source.feed_url"),
  hint = "https://office.example/…",
  help,
  put,
  fault,
}: {
  of: Feed;
  name: string;
  label?: string;
  hint?: string;
  help?: string;
  put: (change: Feed) => void;
  fault: PartProps["fault"];
}) {
  return (
    <>
      <div>
        <TextField label={label} value={of.url ?? ""} hint={hint} fault={fault(`${name}.url`)} onChange={(url) => put({ url })} />
        {help && <p className="mt-1 text-[0.86rem] text-soft">{help}</p>}
      </div>
      <details>
        <summary className="cursor-pointer text-soft">{t("console.source.more_feed")}</summary>
        <div className="mt-3 flex flex-col gap-3">
          <div>
            <TextField
              label={t("console.source.secret_token")}
              value={of.secret ?? ""}
              fault={fault(`${name}.secret`)}
              onChange={(secret) => put({ secret })}
            />
            <p className="mt-1 text-[0.86rem] text-soft">{t("console.source.secret_help")}</p>
          </div>
          <NoteField label={t("console.source.authority")} value={of.authority ?? ""} onChange={(authority) => put({ authority })} />
          <Fault text={fault(`${name}.authority`)} />
        </div>
      </details>
    </>
  );
}

/** OtherFields asks where another service is that speaks SCIM. */
export function OtherFields({ at, put, fault }: PartProps) {
  const of = at.scim ?? {};
  return (
    <FeedFields
      of={of}
      name="scim"
      label={t("console.source.scim_url")}
      hint="https://people.example/scim/v2"
      put={(change) => put({ scim: { ...of, ...change } })}
      fault={fault}
    />
  );
}

/** CalendarFields asks where a calendar is, and how its events become days. */
export function CalendarFields({ at, put, fault }: PartProps) {
  const c = at.calendar ?? {};
  const set = (change: Partial<typeof c>) => put({ calendar: { ...c, ...change } });
  return (
    <>
      <FeedFields of={c} name="calendar" help={t("console.source.feed_url_help")} put={set} fault={fault} />
      <div>
        <ZoneField label={t("console.source.zone")} value={c.zone ?? ""} onChange={(zone) => set({ zone })} />
        <p className="mt-1 text-[0.86rem] text-soft">{t("console.source.zone_help")}</p>
      </div>
      <Choose
        label={t("console.source.timed")}
        value={c.timed ?? "days"}
        options={(["days", "left_out"] as const).map((v) => ({ value: v, label: t(`console.source.timed_${v}`) }))}
        onChange={(timed) => set({ timed: timed as NonNullable<typeof c.timed> })}
      />
    </>
  );
}

/** WhichDays asks which events give which of our calendars their days. */
export function WhichDays({ at, put, fault, known }: PartProps & { known: string[] }) {
  const bring = at.bring ?? {};
  const rules = bring.calendars ?? [];
  const ruled = (list: typeof rules) => put({ bring: { ...bring, calendars: list } });
  return (
    <Part title={t("console.source.which_days")} help={t("console.source.which_days_help")}>
      <datalist id="events-there">
        {known.map((n) => (
          <option key={n} value={n} />
        ))}
      </datalist>
      <Fault text={fault("bring.calendars")} />
      <ol className="flex flex-col gap-3">
        {rules.map((r, i) => (
          <li key={i} className="grid grid-cols-[1fr_1fr_auto] items-end gap-2">
            <Choose
              label={t("console.source.events_that")}
              value={r.match}
              options={(["category", "name", "all"] as const).map((m) => ({ value: m, label: t(`console.source.event_${m}`) }))}
              onChange={(match) => ruled(rules.with(i, { ...r, match: match as typeof r.match, text: match === "all" ? undefined : r.text }))}
            />
            {r.match === "all" ? (
              <span />
            ) : (
              <TextField
                label={t(`console.source.event_text_${r.match}`)}
                list="events-there"
                value={r.text ?? ""}
                onChange={(text) => ruled(rules.with(i, { ...r, text }))}
              />
            )}
            <button
              type="button"
              className="button px-2"
              aria-label={t("console.source.take_mapping", { name: r.text ?? String(i + 1) })}
              onClick={() => ruled(rules.toSpliced(i, 1))}
            >
              <X size={15} aria-hidden />
            </button>
            <div className="col-span-2">
              <Combobox
                label={t("console.source.calendar_here")}
                type="calendars"
                value={r.calendar || undefined}
                onChange={(calendar) => ruled(rules.with(i, { ...r, calendar: calendar ?? "" }))}
              />
            </div>
          </li>
        ))}
      </ol>
      <button type="button" className="button self-start" onClick={() => ruled([...rules, { match: "category", text: "", calendar: "" }])}>
        <Plus size={15} aria-hidden /> {t("console.source.add_days")}
      </button>
    </Part>
  );
}

const fields = ["id", "name", "kind", "site", "tags", "address", "type", "parent", "zone"] as const;

/** InventoryFields asks where a list is, and how it is written. */
export function InventoryFields({ at, put, fault }: PartProps) {
  const v = at.inventory ?? { format: "csv" as const };
  const set = (change: Partial<typeof v>) => put({ inventory: { ...v, ...change } });
  return (
    <>
      <FeedFields of={v} name="inventory" help={t("console.source.feed_url_help")} put={set} fault={fault} />
      <Choose
        label={t("console.source.format")}
        value={v.format}
        options={(["csv", "jsonl"] as const).map((f) => ({ value: f, label: t(`console.source.format_${f}`) }))}
        onChange={(format) => set({ format: format as typeof v.format })}
      />
    </>
  );
}

/** WhichColumns asks how the fields are called there, where that is another name than ours. */
export function WhichColumns({ at, put, fault }: PartProps) {
  const v = at.inventory ?? { format: "csv" as const };
  const bring = at.bring ?? {};
  const [open] = useState(Object.keys(v.columns ?? {}).length > 0);
  const named = (field: string, theirs: string) => {
    const columns = Object.entries({ ...v.columns, [field]: theirs }).filter(([, name]) => name.trim() !== "");
    put({ inventory: { ...v, columns: Object.fromEntries(columns) } });
  };
  return (
    <Part title={t("console.source.which_things")} help={t("console.source.which_things_help")}>
      <CheckBox label={t("console.source.same")} checked={bring.same ?? false} onChange={(same) => put({ bring: { ...bring, same } })} />
      <Fault text={fault("inventory.columns")} />
      <details open={open}>
        <summary className="cursor-pointer text-soft">{t("console.source.columns")}</summary>
        <div className="mt-2 grid grid-cols-2 gap-3">
          {fields.map((f) => (
            <TextField key={f} label={t(`console.source.column_${f}`)} hint={f} value={v.columns?.[f] ?? ""} onChange={(theirs) => named(f, theirs)} />
          ))}
        </div>
      </details>
    </Part>
  );
}
