import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { dropFeed, feeds } from "../api/feeds";
import { reasonOf } from "../api/client";
import { Fault } from "../ui/notice";
import { t, timeFormat } from "../words";

/** FeedList lists the calendars that others read by an address of one's own making. */
export function FeedList({ own }: { own: string }) {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["feeds"], queryFn: feeds });
  const drop = useMutation({ mutationFn: dropFeed, onSettled: () => queries.invalidateQueries({ queryKey: ["feeds"] }) });
  if (!found.data?.length) return null;
  return (
    <section className="sheet p-5">
      <h2 className="mb-1">{t("console.feed.list")}</h2>
      <p className="mb-3 text-soft">{t("console.feed.list_help")}</p>
      <Fault text={drop.error ? reasonOf(drop.error, t("console.unreachable")) : undefined} className="mb-2" />
      <ul>
        {found.data.map((f) => (
          <li key={f.id} className="flex flex-wrap items-baseline gap-x-3 border-t border-line/60 py-1.5 first:border-t-0">
            <span className="font-medium">{t(`feed.${f.kind}`)}</span>
            <span>{f.name}</span>
            {f.user.id !== own && <span className="text-soft">{t("console.source.as_whom", { name: f.user.name })}</span>}
            <span className="text-soft tabular-nums">{timeFormat({ dateStyle: "medium" }).format(new Date(f.created))}</span>
            <button
              type="button"
              className="button ml-auto"
              aria-label={t("console.feed.drop_of", { name: f.name || t(`feed.${f.kind}`) })}
              disabled={drop.isPending}
              onClick={() => drop.mutate(f.id)}
            >
              {t("console.feed.drop")}
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
