import type { AuditFilter } from "../api/audit";
import { useFilters } from "../ui/address";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { ReadField } from "../ui/fields";
import { useName } from "../ui/names";
import { local } from "../ui/time";
import { TimeField, useZone } from "../ui/time-field";
import { t } from "../words";
import { Entries } from "./entries";
import { TakeCopy } from "./copy";
import { RecordTabs } from "./tabs";
import { Verify } from "./verify";

/** The kinds of entries, those first that are asked for most. */
const kinds = [
  "change",
  "decision",
  "question",
  "look",
  "sign_in",
  "refusal",
  "request",
  "sign_out",
  "password",
  "second_factor",
  "link",
  "token",
  "setting",
  "backup",
  "export",
  "service",
  "closing",
  "key",
];

/** What an outcome in the address stands for. */
const outcomes: Record<string, AuditFilter> = {
  granted: { outcome: ["granted"] },
  not_granted: { outcome: ["not_granted"] },
  refused: { outcome: ["refused"] },
};

/** The record: what was done, asked and refused. What is looked for stands in the address. */
export function AuditPage() {
  const { get, set } = useFilters();
  const zone = useZone({});
  const kind = get("kind");
  const filter: AuditFilter = {
    kind: kind ? [kind] : undefined,
    of: get("of"),
    device: get("device"),
    right: get("right"),
    from: get("from"),
    since: get("since"),
    until: get("until"),
    ...outcomes[get("outcome") ?? ""],
  };
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <h1>{t("console.place.record")}</h1>
        <RecordTabs />
        <div className="ml-auto flex gap-2 print:hidden">
          <TakeCopy filter={filter} />
          <Verify />
        </div>
      </div>
      <NarrowedTo filter={filter} outcome={get("outcome")} zone={zone} />
      <div className="mb-3 grid grid-cols-2 items-start gap-3 lg:grid-cols-4 print:hidden">
        <Choose
          label={t("console.record.kind")}
          none={t("console.any")}
          value={kind ?? ""}
          options={kinds.map((k) => ({ value: k, label: t(`console.record.kind_${k}`) }))}
          onChange={set("kind")}
        />
        <Combobox label={t("console.record.who")} type="users" value={get("of")} onChange={set("of")} />
        <Combobox label={t("console.record.device")} type="devices" value={get("device")} onChange={set("device")} />
        <Combobox label={t("console.record.right")} type="rights" value={get("right")} onChange={set("right")} />
        <Choose
          label={t("console.record.outcome")}
          none={t("console.any")}
          value={get("outcome") ?? ""}
          options={Object.keys(outcomes).map((o) => ({ value: o, label: t(`console.record.${o}`) }))}
          onChange={set("outcome")}
        />
        <ReadField label={t("console.record.from")} value={get("from")} shown={String} read={String} onChange={set("from")} />
        <TimeField label={t("console.record.since")} value={get("since")} onChange={set("since")} hint="" />
        <TimeField label={t("console.record.until")} value={get("until")} onChange={set("until")} hint="" />
      </div>
      <Entries filter={filter} zone={zone} />
    </>
  );
}

/** NarrowedTo says on paper, where the filters are not, what of the record the sheet holds. */
function NarrowedTo({ filter, outcome, zone }: { filter: AuditFilter; outcome?: string; zone: string }) {
  const who = useName("users", filter.of ?? "");
  const device = useName("devices", filter.device ?? "");
  const right = useName("rights", filter.right ?? "");
  const parts: [string, string | undefined][] = [
    ["kind", filter.kind?.map((k) => t(`console.record.kind_${k}`)).join(", ")],
    ["who", filter.of && who],
    ["device", filter.device && device],
    ["right", filter.right && right],
    ["outcome", outcome && outcome in outcomes ? t(`console.record.${outcome}`) : undefined],
    ["from", filter.from],
    ["since", filter.since && local(filter.since, zone)],
    ["until", filter.until && local(filter.until, zone)],
  ];
  const told = parts.filter(([, text]) => text).map(([key, text]) => `${t(`console.record.${key}`)}: ${text}`);
  return told.length === 0 ? null : <p className="mb-2 hidden print:block">{told.join(" · ")}</p>;
}
