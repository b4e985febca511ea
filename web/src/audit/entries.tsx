import { useInfiniteQuery } from "@tanstack/react-query";
import clsx from "clsx";
import { ChevronDown, ChevronRight } from "lucide-react";
import { Fragment, useState } from "react";
import { audit, type AuditFilter, type Entry } from "../api/audit";
import { Busy, Empty, Trouble } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { timeFormat, t, number } from "../words";
import { Details } from "./details";

const pageSize = 100;

/** Entries lists entries of the record, newest first; each opens to all that it says. */
export function Entries({ filter, zone }: { filter: AuditFilter; zone: string }) {
  const [open, setOpen] = useState<number>();
  const pages = useInfiniteQuery({
    queryKey: ["audit", filter],
    queryFn: ({ pageParam }) => audit({ ...filter, limit: pageSize, cursor: pageParam || undefined }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: (before) => before,
  });
  if (pages.error) return <Trouble error={pages.error} />;
  if (!pages.data) return <Busy />;
  const list = pages.data.pages.flatMap((p) => p.items);
  const down = pages.data.pages.at(-1)?.down_to ?? 0;
  return (
    <div className="sheet overflow-x-auto">
      <table className="w-full table-fixed max-md:min-w-[60rem]">
        <colgroup>
          <col className="w-10" />
          <col className="w-52" />
          <col className="w-40" />
          <col />
          <col className="w-32" />
        </colgroup>
        <thead>
          <tr className="text-left text-xs text-soft">
            <th className="py-2 pl-4">
              <span className="sr-only">{t("console.record.details")}</span>
            </th>
            <th className="py-2 pr-3 font-medium">
              {t("console.record.when")} ({zone})
            </th>
            <th className="py-2 pr-3 font-medium">{t("console.record.by")}</th>
            <th className="py-2 pr-3 font-medium">{t("console.record.kind")}</th>
            <th className="py-2 pr-4 font-medium">{t("console.record.from")}</th>
          </tr>
        </thead>
        <tbody>
          {list.map((e) => (
            <Fragment key={e.entry}>
              <Line entry={e} zone={zone} open={open === e.entry} toggle={() => setOpen(open === e.entry ? undefined : e.entry)} />
              {open === e.entry && (
                <tr>
                  <td />
                  <td colSpan={4} className="pr-4 pb-3">
                    <Details entry={e} />
                  </td>
                </tr>
              )}
            </Fragment>
          ))}
        </tbody>
      </table>
      {list.length === 0 && <Empty>{pages.hasNextPage ? t("console.record.looked", { entry: number(down) }) : t("console.record.none")}</Empty>}
      {pages.hasNextPage && (
        <div className="border-t border-line px-4 py-2 print:hidden">
          <button type="button" className="button" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            {t("console.record.more")}
          </button>
        </div>
      )}
    </div>
  );
}

/** An answer is marked by a sign and a colour, and said in words beside. */
const look = (e: Entry) =>
  e.outcome === "refused"
    ? "breaks"
    : e.kind !== "decision" && e.kind !== "question"
      ? ""
      : e.outcome === "granted" || e.outcome === "done"
        ? "holds"
        : "breaks";

function Line({ entry: e, zone, open, toggle }: { entry: Entry; zone: string; open: boolean; toggle: () => void }) {
  const when = timeFormat({ dateStyle: "medium", timeStyle: "medium", timeZone: zone }).format(new Date(e.at));
  const mark = look(e);
  return (
    <tr className="border-t border-line/60 align-baseline hover:bg-sunk">
      <td className="py-1 pl-3">
        <button
          type="button"
          className="flex size-6 items-center justify-center rounded"
          aria-expanded={open}
          aria-label={t("console.record.details_of", { n: e.entry })}
          onClick={toggle}
        >
          {open ? <ChevronDown size={14} aria-hidden /> : <ChevronRight size={14} aria-hidden />}
        </button>
      </td>
      <td className="py-1 pr-3 tabular-nums" title={`${e.at} (${zone})`}>
        {when}
      </td>
      <td className="truncate py-1 pr-3">{e.by ? <RecordLink type="users" id={e.by.id} name={e.by.name} /> : via(e.via)}</td>
      <td className="py-1 pr-3">
        {mark && (
          <span className={clsx("mr-1.5 font-semibold", mark === "holds" ? "text-holds" : "text-breaks")} aria-hidden>
            {mark === "holds" ? "●" : "✕"}
          </span>
        )}
        {e.text}
      </td>
      <td className="truncate py-1 pr-4 text-[0.86rem] text-soft tabular-nums">{e.from}</td>
    </tr>
  );
}

/** via is by what way something was done. */
export const via = (way: string | undefined) => (way ? t([`console.record.via_${way}`, way]) : "");
