import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { ChevronDown, ChevronRight, History } from "lucide-react";
import { Fragment, useState } from "react";
import { Link } from "react-router";
import { revisionWithImpact, revisions as ask } from "../api/audit";
import type { Listed } from "../api/records";
import { RecordTabs } from "../audit/tabs";
import { SomeChanges } from "../impact/changes";
import { ImpactView } from "../impact/impact";
import { Touched } from "../today/changes";
import { lookBack } from "../session/as-of";
import { useMay } from "../session/mandates";
import { useFilters } from "../ui/address";
import { Combobox } from "../ui/combobox";
import { Modal } from "../ui/modal";
import { useName } from "../ui/names";
import { Busy, Empty, Trouble } from "../ui/notice";
import { TimeField, useZone } from "../ui/time-field";
import { number, t, timeFormat } from "../words";
import { Comparison } from "./comparison";
import { TakeBack } from "./take-back";

const pageSize = 50;

/** The line of revisions: who changed what, when and why. Each opens to what it did and who gained and lost by it; some are taken back, two compared. */
export function HistoryPage() {
  const { get, set } = useFilters();
  const zone = useZone({});
  const filter = { by: get("by"), type: get("type"), id: get("id"), since: get("since"), until: get("until") };
  const [picked, setPicked] = useState<number[]>([]);
  const may = useMay("settings", "settings");
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <h1>{t("console.place.record")}</h1>
        <RecordTabs />
        <div className="ml-auto flex flex-wrap gap-2 print:hidden">
          {picked.length === 2 && (
            <Modal title={t("console.history.compare_title")} button={t("console.history.compare")}>
              {() => <Comparison from={Math.min(...picked)} to={Math.max(...picked)} />}
            </Modal>
          )}
          {picked.length > 0 && may.edit && (
            <Modal title={t("console.history.back_title", { count: picked.length })} button={t("console.history.back")}>
              {(close) => (
                <TakeBack
                  revisions={picked}
                  close={() => {
                    setPicked([]);
                    close();
                  }}
                />
              )}
            </Modal>
          )}
        </div>
      </div>
      <div className="mb-3 grid grid-cols-2 items-start gap-3 lg:grid-cols-4 print:hidden">
        <Combobox label={t("console.record.by")} type="users" value={get("by")} onChange={set("by")} />
        <TimeField label={t("console.record.since")} value={get("since")} onChange={set("since")} hint="" />
        <TimeField label={t("console.record.until")} value={get("until")} onChange={set("until")} hint="" />
        <LookBack />
        {filter.type && filter.id && <OfRecord type={filter.type as Listed} id={filter.id} />}
      </div>
      <Lines filter={filter} zone={zone} picked={picked} pick={(n, on) => setPicked(on ? [...picked, n] : picked.filter((p) => p !== n))} />
    </>
  );
}

/** LookBack leads to the policy as it was at a time. */
function LookBack() {
  const [at, setAt] = useState<string>();
  return (
    <div className="flex items-start gap-2">
      <div className="min-w-0 flex-1">
        <TimeField label={t("console.history.look_back_at")} value={at} onChange={setAt} hint="" />
      </div>
      <button type="button" className="button mt-5" disabled={!at} onClick={() => at && lookBack(at)}>
        {t("console.history.look")}
      </button>
    </div>
  );
}

/** OfRecord says whose line it is, and leads to that of everything. */
function OfRecord({ type, id }: { type: Listed; id: string }) {
  const name = useName(type, id);
  return (
    <p className="self-end py-1.5">
      {t("console.history.of", { name: name ?? id })}{" "}
      <Link className="link" to="/history">
        {t("console.history.of_all")}
      </Link>
    </p>
  );
}

type LinesProps = { filter: Parameters<typeof ask>[0]; zone: string; picked: number[]; pick: (n: number, on: boolean) => void };

function Lines({ filter, zone, picked, pick }: LinesProps) {
  const [open, setOpen] = useState<number>();
  const pages = useInfiniteQuery({
    queryKey: ["revisions", filter],
    queryFn: ({ pageParam }) => ask({ ...filter, limit: pageSize, cursor: pageParam || undefined }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });
  if (pages.error) return <Trouble error={pages.error} />;
  if (!pages.data) return <Busy />;
  const list = pages.data.pages.flatMap((p) => p.items);
  return (
    <div className="sheet overflow-x-auto">
      <table className="w-full table-fixed max-md:min-w-[60rem]">
        <colgroup>
          <col className="w-20" />
          <col className="w-24" />
          <col className="w-56" />
          <col className="w-36" />
          <col />
        </colgroup>
        <thead>
          <tr className="text-left text-xs text-soft">
            <th className="py-2 pl-4">
              <span className="sr-only">{t("console.history.pick")}</span>
            </th>
            <th className="py-2 pr-3 font-medium">{t("console.record.revision")}</th>
            <th className="py-2 pr-3 font-medium">
              {t("console.record.when")} ({zone})
            </th>
            <th className="py-2 pr-3 font-medium">{t("console.record.by")}</th>
            <th className="py-2 pr-4 font-medium">{t("console.record.kind")}</th>
          </tr>
        </thead>
        <tbody>
          {list.map((h) => (
            <Fragment key={h.revision}>
              <tr className="border-t border-line/60 align-baseline hover:bg-sunk">
                <td className="py-1 pl-3">
                  <span className="flex items-center gap-1">
                    <button
                      type="button"
                      className="flex size-6 items-center justify-center rounded"
                      aria-expanded={open === h.revision}
                      aria-label={t("console.history.details", { n: h.revision })}
                      onClick={() => setOpen(open === h.revision ? undefined : h.revision)}
                    >
                      {open === h.revision ? <ChevronDown size={14} aria-hidden /> : <ChevronRight size={14} aria-hidden />}
                    </button>
                    <label className="flex size-6 items-center justify-center print:hidden">
                      <input
                        type="checkbox"
                        aria-label={t("console.history.pick_one", { n: h.revision })}
                        checked={picked.includes(h.revision)}
                        onChange={(e) => pick(h.revision, e.target.checked)}
                      />
                    </label>
                  </span>
                </td>
                <td className="py-1 pr-3 tabular-nums">{number(h.revision)}</td>
                <td className="py-1 pr-3 tabular-nums">{timeFormat({ dateStyle: "medium", timeStyle: "medium", timeZone: zone }).format(new Date(h.at))}</td>
                <td className="truncate py-1 pr-3">{h.by.name}</td>
                <td className="py-1 pr-4">
                  <Touched of={h} />
                </td>
              </tr>
              {open === h.revision && (
                <tr>
                  <td />
                  <td colSpan={4} className="pr-4 pb-3">
                    <Details revision={h.revision} />
                  </td>
                </tr>
              )}
            </Fragment>
          ))}
        </tbody>
      </table>
      {list.length === 0 && <Empty>{t("console.history.none")}</Empty>}
      {pages.hasNextPage && (
        <div className="border-t border-line px-4 py-2 print:hidden">
          <button type="button" className="button" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            {t("console.history.more")}
          </button>
        </div>
      )}
    </div>
  );
}

/** Details are what a revision changed, record by record, and who gained and lost what by it. */
function Details({ revision: n }: { revision: number }) {
  const found = useQuery({ queryKey: ["revision", n, "impact"], queryFn: () => revisionWithImpact(n), staleTime: Infinity });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <div className="grid gap-x-6 border-l-2 border-line pl-3 lg:grid-cols-2">
      <section aria-label={t("console.record.changed")}>
        <SomeChanges changes={found.data.changes} all={found.data.all} none={t("console.record.no_change")} />
        <button type="button" className="button mt-2 px-2 py-0.5 text-[0.86rem] print:hidden" onClick={() => lookBack(String(n))}>
          <History size={14} aria-hidden /> {t("console.history.look_back")}
        </button>
      </section>
      {found.data.impact && (
        <section aria-label={t("console.history.impact")}>
          <h2 className="text-xs font-medium text-soft">{t("console.history.impact")}</h2>
          <ImpactView impact={found.data.impact} />
        </section>
      )}
    </div>
  );
}
