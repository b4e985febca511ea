import type { Happened } from "../api/today";
import { serviceNow } from "../session/clock";
import { Link } from "react-router";
import { RecordLink } from "../ui/record-link";
import { distance, local } from "../ui/time";
import { number, t } from "../words";
import { listLook, Section } from "./section";

/** LastChanges lists revisions: who changed what, and when. */
export function LastChanges({ title, list: revisions, zone, all }: { title: string; list: Happened[]; zone: string; all?: string }) {
  const now = serviceNow();
  return (
    <Section title={title}>
      <ol className={listLook}>
        {revisions.map((r) => (
          <li key={r.revision} className="flex items-baseline gap-3">
            <span className="min-w-0 flex-1">
              <Touched of={r} />
            </span>
            <span className="text-right text-[0.86rem] text-soft tabular-nums" title={`${local(r.at, zone)} ${zone}`}>
              {r.by.name}, {distance(r.at, now)}
            </span>
          </li>
        ))}
      </ol>
      {all && (
        <p className="border-t border-line/60 px-4 py-2 print:hidden">
          <Link className="link" to={all}>
            {t("console.history.all")}
          </Link>
        </p>
      )}
      {revisions.length === 0 && <p className="px-4 py-3 text-soft">{t("console.today.no_changes")}</p>}
    </Section>
  );
}

/** Touched says what a revision changed, and why. */
export function Touched({ of: r }: { of: Happened }) {
  return (
    <>
      {r.records.map((x, i) => (
        <span key={`${x.type}/${x.id}`}>
          {i > 0 && ", "}
          {t(`console.op.${x.op}`)} {x.op === "removed" ? x.name : <RecordLink type={x.type} id={x.id} name={x.name} />}
        </span>
      ))}
      {r.all > r.records.length && <span className="text-soft"> {t("console.and_more", { n: number(r.all - r.records.length) })}</span>}
      {r.note && <span className="text-[0.86rem] text-soft"> “{r.note}”</span>}
    </>
  );
}
