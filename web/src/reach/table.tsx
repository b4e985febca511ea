import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { titleOf } from "../api/records";
import { useRights } from "../rights/tree";
import { reach, type PossibleRight, type Reach, type Reached } from "../api/reach";
import { CircumstanceFields, contextOf, unknown } from "../check/circumstances";
import { Choose } from "../ui/choose";
import { DegreeFilter, DegreeMark, degrees, type Degree } from "../ui/degree";
import { Busy, Trouble } from "../ui/notice";
import { Name, RecordLink } from "../ui/record-link";
import { Instant } from "../ui/time";
import { number, t } from "../words";

/** ReachSection tells all that is possible: what a user or a group reaches, or who reaches a device. */
export function ReachSection({ type, id }: { type: "users" | "user_groups" | "devices"; id: string }) {
  const [chosen, setChosen] = useState<Degree[]>([...degrees]);
  const [params, setParams] = useSearchParams(); // in which a list of devices says whose right is meant
  const right = params.get("right") ?? "";
  const setRight = (id: string) => setParams(id ? { right: id } : {}, { replace: true });
  const [where, setWhere] = useState(unknown);
  const rights = useRights();
  const query = { degree: chosen.length < degrees.length ? chosen : undefined, right: right || undefined, ...contextOf(where) };
  const pages = useInfiniteQuery({
    queryKey: ["reach", type, id, query],
    queryFn: ({ pageParam }) => reach(type, id, { ...query, limit: 500, cursor: pageParam || undefined }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: (before) => before,
  });
  const first = pages.data?.pages[0];
  return (
    <section className="sheet" data-reach={type}>
      <div className="flex flex-wrap items-end gap-3 border-b border-line px-4 py-2.5">
        <h2 className="mr-auto self-center">
          {t(`console.reach.${type}`)} {first && <span className="font-normal text-soft tabular-nums">{number(first.total)}</span>}
        </h2>
        <DegreeFilter chosen={chosen} totals={first?.totals} onChange={setChosen} />
        <div className="w-40 print:hidden">
          <Choose
            label={t("console.field.right")}
            none={t("console.any")}
            value={right}
            options={(rights ?? []).map((r) => ({ value: r.id, label: titleOf(r) }))}
            onChange={setRight}
          />
        </div>
        <details className="basis-full print:hidden">
          <summary className="link w-fit cursor-pointer text-[0.86rem]">{t("console.circumstances.title")}</summary>
          <div className="mt-2 grid gap-3 md:grid-cols-4">
            <CircumstanceFields value={where} onChange={(part, v) => setWhere((c) => ({ ...c, [part]: v }))} />
          </div>
        </details>
      </div>
      {pages.error && <Trouble error={pages.error} />}
      {pages.isPending && <Busy />}
      {first?.barred && <p className="px-4 py-3 text-breaks">{t(`console.barred.${first.barred}`)}</p>}
      {first && first.total === 0 && !first.barred && (
        <p className="px-4 py-3 text-soft">{t(chosen.length === degrees.length ? "console.reach.never" : "console.reach.nothing")}</p>
      )}
      {first && first.total > 0 && <ReachTable of={first} items={pages.data?.pages.flatMap((p) => p.items) ?? []} />}
      {pages.hasNextPage && (
        <p className="px-4 py-3">
          <button type="button" className="button" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            {t("console.reach.more")}
          </button>
        </p>
      )}
    </section>
  );
}

type Way = { degree: Degree; rights: PossibleRight[]; through: NonNullable<Reached["through"]> };

/** waysOf gathers the rights of one thing that are possible in the same way, the nearest first. */
function waysOf(item: Reached): Way[] {
  const ways: Way[] = [];
  for (const r of item.rights) {
    const through = r.through ?? item.through ?? [];
    const key = (x: PossibleRight, by: Way["through"]) => JSON.stringify([x.degree, x.until, x.text, x.when, by.map((s) => s.id)]);
    const same = ways.find((w) => w.rights[0] && key(w.rights[0], w.through) === key(r, through));
    if (same) same.rights.push(r);
    else ways.push({ degree: r.degree, rights: [r], through });
  }
  return ways.sort((a, b) => degrees.indexOf(a.degree) - degrees.indexOf(b.degree));
}

/** Fold is all that is possible in one way. */
type Fold = { way: Way; items: Reached[] };

/** foldsOf gathers what is possible for one reason: with the same rights, in the same way, through the same steps. When each ends is its own. */
function foldsOf(items: Reached[]): Fold[] {
  const folds = new Map<string, Fold>();
  for (const item of items) {
    for (const way of waysOf(item)) {
      const key = JSON.stringify([way.degree, way.rights.map((r) => [r.id, r.text, r.when]), way.through.map((s) => s.id)]);
      const fold = folds.get(key);
      if (fold) fold.items.push(item);
      else folds.set(key, { way, items: [item] });
    }
  }
  return [...folds.values()].sort((a, b) => degrees.indexOf(a.way.degree) - degrees.indexOf(b.way.degree) || b.items.length - a.items.length);
}

/** ReachTable lists what is possible, folded by reason: how, with which rights, when or what it takes, and through what. */
export function ReachTable({ of, items, open }: { of: Reach; items: Reached[]; open?: boolean }) {
  const type = of.of.type === "devices" ? "users" : "devices";
  const heads = [t(`console.types.${type}`), t("console.reach.how"), t("console.field.rights"), t("console.reach.takes"), t("console.reach.through")];
  return (
    <div className="overflow-x-auto">
      <table className="w-full">
        <thead>
          <tr className="text-xs text-soft">
            {heads.map((h) => (
              <th key={h} scope="col" className="px-4 py-2">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {foldsOf(items).map((fold) => (
            <FoldRow
              key={JSON.stringify([fold.way.degree, fold.way.rights, fold.way.through, fold.items[0]?.id])}
              fold={fold}
              type={type}
              of={of}
              open={open}
            />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function FoldRow({ fold, type, of, open }: { fold: Fold; type: "users" | "devices"; of: Reach; open?: boolean }) {
  const { way, items } = fold;
  const [first, ...others] = items;
  // Where all end at one instant it is theirs; where they do not, each tells its own.
  const same = new Set(items.map((i) => untilOf(i, way))).size === 1;
  return (
    <tr className="border-t border-line/60 align-top">
      <th scope="row" className="px-4 py-1.5 font-normal">
        {first && others.length === 0 && <RecordLink type={type} id={first.id.split("/")[0] ?? ""} name={first.name} />}
        {first && others.length > 0 && (
          <details open={open}>
            <summary className="cursor-pointer whitespace-nowrap">
              {t(`console.counted.${type === "users" ? "people" : "devices"}`, { count: items.length })}
              <SameSite items={items} />
            </summary>
            <ul className="mt-1 pl-4">
              {items.map((i) => (
                <li key={i.id} className="leading-[24px]">
                  <RecordLink type={type} id={i.id.split("/")[0] ?? ""} name={i.name} />
                  {of.of.type !== "user_groups" && <Why of={of} item={i} way={way} />}
                </li>
              ))}
            </ul>
          </details>
        )}
      </th>
      <td className="px-4 py-1.5">
        <DegreeMark degree={way.degree} />
      </td>
      <td className="px-4 py-1.5">{way.rights.map((r) => r.name).join(", ")}</td>
      <td className="px-4 py-1.5">
        {way.rights[0] && <Takes right={same ? way.rights[0] : { ...way.rights[0], until: null }} zone={of.zone} differs={!same} />}
      </td>
      <td className="px-4 py-1.5 leading-[24px]">
        {way.through.map((step, k) => (
          <span key={step.id}>
            {k > 0 && <span className="text-soft"> → </span>}
            <RecordLink type={step.type} id={step.id} name={step.name} />
          </span>
        ))}
        {first && others.length === 0 && of.of.type !== "user_groups" && <Why of={of} item={first} way={way} />}
      </td>
    </tr>
  );
}

const untilOf = (item: Reached, way: Way) => item.rights.find((r) => r.id === way.rights[0]?.id && r.degree === way.degree)?.until;

/** SameSite says where things are that are all at one site. */
function SameSite({ items }: { items: Reached[] }) {
  const site = items[0]?.site;
  if (!site || items.some((i) => i.site !== site)) return null;
  return (
    <span className="text-soft">
      {" "}
      {t("console.reach.at")} <Name type="sites" id={site} />
    </span>
  );
}

/** Takes tells until when a right holds, or what it takes and from when on. */
export function Takes({ right, zone, differs }: { right: PossibleRight; zone: string; differs?: boolean }) {
  const starts = right.degree === "later" || right.when === "later";
  return (
    <>
      {right.text && <span>{right.text}</span>}
      {right.text && right.until && (right.degree === "now" || starts) && ", "}
      {right.until && starts && (
        <>
          <span className="text-soft">{t("console.reach.from")} </span>
          <Instant at={right.until} zone={zone} />
        </>
      )}
      {right.degree === "now" && right.until && (
        <>
          <span className="text-soft">{t("console.reach.until")} </span>
          <Instant at={right.until} zone={zone} />
        </>
      )}
      {right.degree === "now" && !right.until && <span className="text-soft">{t(differs ? "console.reach.differs" : "console.reach.open")}</span>}
    </>
  );
}

/** Why asks the question that a way answers, at the time and in the circumstances that it takes. */
function Why({ of, item, way }: { of: Reach; item: Reached; way: Way }) {
  const asked = way.rights.find((r) => r.id === "control") ?? way.rights[0];
  if (!asked) return null;
  const [user, device] = of.of.type === "users" ? [of.of.id, item.id] : [item.id, of.of.id];
  const c = asked.circumstances;
  const tri = (v: boolean | null | undefined) => (v === true ? "yes" : v === false ? "no" : "");
  const question = {
    user,
    device,
    right: asked.id,
    at: asked.degree !== "now" && asked.until ? asked.until : "",
    ip: c?.ip?.[0]?.split("/")[0] ?? "",
    place: c?.place?.[0] ?? "",
    strong: tri(c?.strong_sign_in),
    attended: tri(c?.attended),
  };
  const given = Object.entries(question).filter(([, v]) => v !== "");
  return (
    <Link className="link ml-2 inline-block leading-[24px] text-soft print:hidden" to={`/check?${new URLSearchParams(given).toString()}`}>
      {t("console.reach.why")}
    </Link>
  );
}
