import { useQuery } from "@tanstack/react-query";
import { Eye } from "lucide-react";
import { Link, useParams } from "react-router";
import { seen } from "../api/reach";
import { Busy, Trouble } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { Subscribe } from "../feeds/subscribe";
import { Own } from "../mine/own";
import { degrees } from "../ui/degree";
import { t } from "../words";
import { ReachTable } from "./table";

/**
 * As they see it: the service as a user would meet it, without being able to act as them. That one looked is recorded.
 * own is given where it is one's own access, which is all that there is for somebody without a mandate.
 */
export function SeenPage({ own }: { own?: string }) {
  const { id = own ?? "" } = useParams();
  const found = useQuery({ queryKey: ["seen", id], queryFn: () => seen(id, { limit: 200 }), staleTime: 60_000 });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  const { user, text, groups, whom, reach } = found.data;
  return (
    <div className={own ? "mx-auto max-w-6xl" : "mx-auto max-w-6xl rounded-lg border-2 border-dashed border-focus p-5"}>
      <div className="mb-1 flex items-center gap-3">
        {!own && <Eye size={22} aria-hidden className="shrink-0 text-focus" />}
        <h1>{own ? t("console.seen.own") : t("console.seen.title", { user: user.name })}</h1>
        {!own && (
          <Link className="link ml-auto" to={`/records/users/${user.id}`}>
            {t("console.seen.back")}
          </Link>
        )}
      </div>
      {!own && <p className="mb-3 text-[0.86rem] text-soft">{t("console.seen.banner", { user: user.name })}</p>}
      <p className="mb-4 max-w-[75ch] text-[1.02rem]">{text}</p>
      <dl className="sheet mb-5 grid gap-4 px-5 py-3 sm:grid-cols-5">
        {degrees.map((d) => (
          <Fact key={d} name={t(`console.seen.${d}`)} value={String(reach.totals[d])} />
        ))}
        <div>
          <dt className="text-xs text-soft">{t("console.types.user_groups")}</dt>
          <dd>
            {groups.length === 0 && <span className="text-breaks">{t("console.seen.no_groups")}</span>}
            {groups.map((g, i) => (
              <span key={g.id}>
                {i > 0 && ", "}
                <RecordLink type="user_groups" id={g.id} name={g.name} />
              </span>
            ))}
          </dd>
        </div>
        <div>
          <dt className="text-xs text-soft">{t("console.seen.whom")}</dt>
          <dd>{whom.map((w) => w.name).join(", ")}</dd>
        </div>
      </dl>
      {own && <Own />}
      {own && (
        <div className="mb-3 flex justify-end">
          <Subscribe kind="reach" />
        </div>
      )}
      {reach.total > 0 && (
        <section className="sheet">
          <ReachTable of={reach} items={reach.items} open={own !== undefined} />
        </section>
      )}
    </div>
  );
}

function Fact({ name, value }: { name: string; value: string }) {
  return (
    <div>
      <dt className="text-xs text-soft">{name}</dt>
      <dd className="text-2xl font-semibold tabular-nums">{value}</dd>
    </div>
  );
}
