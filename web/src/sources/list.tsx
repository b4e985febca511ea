import { useQuery } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { Link } from "react-router";
import { sources, type Source } from "../api/sources";
import { peopleTabs } from "../people/tabs";
import { useOwner } from "../session/mandates";
import { Busy, Empty, Trouble } from "../ui/notice";
import { PlaceTabs } from "../ui/tabs";
import { Instant } from "../ui/time";
import { useZone } from "../ui/time-field";
import { number, t } from "../words";

/** isRead tells whether sources of a kind are read; the others bring by themselves. */
export const isRead = (kind: Source["kind"]) => kind !== "scim" && kind !== "sign_on";

/** broughtText says what a source has brought that is there still. */
export function broughtText(s: Source): string {
  if (s.kind === "calendar")
    return s.keeps?.length ? t("console.source.keeps_days", { names: s.keeps.map((k) => k.name).join(", ") }) : t("console.source.no_calendar");
  if (s.kind === "inventory") return `${t("console.counted.devices", { count: s.devices })} · ${t("console.source.sites", { count: s.sites })}`;
  return `${t("console.counted.people", { count: s.users })} · ${t("console.source.memberships", { count: s.members })}`;
}

/** SourceListPage shows where people and groups come from that are kept outside, and how each last went. */
export function SourceListPage() {
  const found = useQuery({ queryKey: ["sources"], queryFn: sources });
  const owner = useOwner();
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
        <h1>{t("console.place.people")}</h1>
        <PlaceTabs place="people" tabs={peopleTabs} />
        {owner && (
          <Link className="button primary ml-auto" to="/sources/new">
            <Plus size={15} aria-hidden /> {t("console.source.new")}
          </Link>
        )}
      </div>
      <p className="mb-3 max-w-[80ch] text-soft">{t("console.source.help")}</p>
      {found.error && <Trouble error={found.error} />}
      {found.isPending && <Busy />}
      {found.data?.length === 0 && <Empty>{t("console.source.none")}</Empty>}
      <ul className="flex flex-col gap-2">
        {found.data?.map((s) => (
          <li key={s.id} className="sheet flex flex-wrap items-baseline gap-x-4 gap-y-1 px-4 py-2.5">
            <Link className="link font-semibold" to={`/sources/${encodeURIComponent(s.id)}`}>
              {s.name}
            </Link>
            <span className="tabular-nums">{broughtText(s)}</span>
            {isRead(s.kind) && <Outcome of={s} />}
            <span className="ml-auto text-soft">{isRead(s.kind) || s.paused ? <NextRun of={s} /> : t(`console.source.brings_${s.kind}`)}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

/** Outcome says how the last reading went, and how old what is known by it is. */
export function Outcome({ of }: { of: Source }) {
  const zone = useZone({});
  const last = of.last;
  if (!last) return <span className="text-soft">{t("console.source.not_read")}</span>;
  const bad = last.outcome === "failed" || last.outcome === "held";
  return (
    <span className={bad ? "font-semibold text-breaks" : ""}>
      {t(`console.source.outcome_${last.outcome}`)} <Instant at={last.at} zone={zone} />
      {bad && of.good && (
        <span className="font-normal text-soft">
          {" · "}
          {t("console.source.as_of")} <Instant at={of.good} zone={zone} />
        </span>
      )}
    </span>
  );
}

/** NextRun says when a source is read next by itself. */
export function NextRun({ of }: { of: Source }) {
  const zone = useZone({});
  if (of.paused) return <>{t("console.source.paused")}</>;
  if (!of.next) return <>{t("console.source.by_hand")}</>;
  return (
    <>
      {t("console.source.next")} <Instant at={of.next} zone={zone} />
    </>
  );
}

const counted = ["new", "changed", "back", "gone", "joined", "left", "new_days", "gone_days", "new_things", "changed_things", "gone_things"] as const;

/** countsOf says what a reading comes to, in a few words; nothing where it comes to nothing. */
export function countsOf(c: Record<(typeof counted)[number], number>) {
  return counted
    .filter((k) => c[k] > 0)
    .map((k) => t(`console.source.count_${k}`, { n: number(c[k]), count: c[k] }))
    .join(", ");
}
