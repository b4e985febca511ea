import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { list } from "../api/client";
import { reach, type Reach, type Reached } from "../api/reach";
import { Choose } from "../ui/choose";
import { Busy, Trouble } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { Instant } from "../ui/time";
import { number, say } from "../words";

/** ReachSection tells what a user or a group reaches, or who reaches a device: now or at any time. */
export function ReachSection({ type, id }: { type: "users" | "user_groups" | "devices"; id: string }) {
  const [anyTime, setAnyTime] = useState(false);
  const [right, setRight] = useState("");
  const rights = useQuery({ queryKey: ["rights"], queryFn: () => list("rights", { limit: 1000 }), staleTime: 30_000 });
  const pages = useInfiniteQuery({
    queryKey: ["reach", type, id, anyTime, right],
    queryFn: ({ pageParam }) => reach(type, id, { any_time: anyTime || undefined, right: right || undefined, limit: 50, cursor: pageParam || undefined }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });
  const first = pages.data?.pages[0];
  return (
    <section className="sheet" data-reach={type}>
      <div className="flex flex-wrap items-end gap-3 border-b border-line px-4 py-2.5">
        <h2 className="mr-auto self-center">
          {say(`console.reach.${type}`)} {first && <span className="font-normal text-soft tabular-nums">{number(first.total)}</span>}
        </h2>
        <div className="w-40">
          <Choose
            label={say("console.field.right")}
            none={say("console.any")}
            value={right}
            options={(rights.data?.items ?? []).map((r) => ({ value: r.id, label: r.name ?? r.id }))}
            onChange={setRight}
          />
        </div>
        <label className="flex items-center gap-2 pb-1.5">
          <input type="checkbox" className="size-4 accent-(--accent)" checked={anyTime} onChange={(e) => setAnyTime(e.target.checked)} />
          {say("console.reach.any_time")}
        </label>
      </div>
      {pages.error && <Trouble error={pages.error} />}
      {pages.isPending && <Busy />}
      {first?.barred && <p className="px-4 py-3 text-breaks">{say(`console.barred.${first.barred}`)}</p>}
      {first && first.total === 0 && !first.barred && <p className="px-4 py-3 text-soft">{say(anyTime ? "console.reach.never" : "console.reach.nothing")}</p>}
      {first && first.total > 0 && <ReachTable of={first} items={pages.data?.pages.flatMap((p) => p.items) ?? []} />}
      {pages.hasNextPage && (
        <p className="px-4 py-3">
          <button type="button" className="button" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            {say("console.reach.more")}
          </button>
        </p>
      )}
    </section>
  );
}

/** ReachTable lists what is reached, with rights, how long, and through what. */
export function ReachTable({ of, items }: { of: Reach; items: Reached[] }) {
  const type = of.of.type === "devices" ? "users" : "devices";
  return (
    <div className="overflow-x-auto">
      <table className="w-full">
        <thead>
          <tr className="text-xs text-soft">
            {[say(`console.type.${type}`), say("console.field.rights"), say("console.check.until"), say("console.reach.through")].map((h) => (
              <th key={h} scope="col" className="px-4 py-2">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {items.map((item) => (
            <tr key={item.id} className="border-t border-line/60 align-top">
              <td className="px-4 py-1.5">
                <RecordLink type={type} id={item.id.split("/")[0] ?? ""} name={item.name} />
              </td>
              <td className="px-4 py-1.5">
                <Rights item={item} />
              </td>
              <td className="px-4 py-1.5">
                <Ends item={item} zone={of.zone} />
              </td>
              <td className="px-4 py-1.5 leading-[24px]">
                {(item.through ?? []).map((t, i) => (
                  <span key={t.id}>
                    {i > 0 && <span className="text-soft"> → </span>}
                    <RecordLink type={t.type} id={t.id} name={t.name} />
                  </span>
                ))}
                {of.of.type !== "user_groups" && <Why of={of} item={item} />}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Rights({ item }: { item: Reached }) {
  return item.rights.map((r) => (
    <span
      key={r.id}
      title={r.allowed ? undefined : say("console.reach.later")}
      className={`mr-1 mb-0.5 inline-block rounded-sm px-1.5 text-[0.86rem] ${r.allowed ? "bg-sunk font-medium" : "border border-dashed border-beyond text-soft"}`}
    >
      {r.allowed ? r.name : `${r.name} · ${say("console.reach.later_short")}`}
    </span>
  ));
}

/** Ends tells when the first of the rights changes; all of them, where they differ, in its title. */
function Ends({ item, zone }: { item: Reached; zone: string }) {
  const ends = item.rights.flatMap((r) => (r.until ? [r.until] : [])).sort();
  if (!ends[0]) return <span className="text-soft">{say("console.reach.open")}</span>;
  return (
    <>
      {!item.rights.some((r) => r.allowed) && <span className="text-soft">{say("console.reach.from")} </span>}
      <Instant at={ends[0]} zone={zone} />
    </>
  );
}

function Why({ of, item }: { of: Reach; item: Reached }) {
  const right = item.rights.some((r) => r.id === "control") ? "control" : (item.rights[0]?.id ?? "view");
  const [user, device] = of.of.type === "users" ? [of.of.id, item.id] : [item.id, of.of.id];
  return (
    <Link className="link ml-2 inline-block leading-[24px] text-soft" to={`/check?${new URLSearchParams({ user, right, device }).toString()}`}>
      {say("console.reach.why")}
    </Link>
  );
}
