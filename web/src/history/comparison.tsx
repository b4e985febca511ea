import { useQuery } from "@tanstack/react-query";
import { comparison } from "../api/audit";
import { ChangeList } from "../impact/changes";
import { ImpactView } from "../impact/impact";
import { Busy, Trouble } from "../ui/notice";
import { number, t } from "../words";

/** Comparison is what leads from one revision to another, and who gained and lost what. */
export function Comparison({ from, to }: { from: number; to: number }) {
  const found = useQuery({ queryKey: ["comparison", from, to], queryFn: () => comparison(String(from), String(to)), staleTime: Infinity });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  const most = 50;
  const more = found.data.all - Math.min(most, found.data.changes.length);
  return (
    <div className="pb-5">
      <p className="text-soft">{t("console.history.compared", { from, to })}</p>
      <ChangeList changes={found.data.changes.slice(0, most)} none={t("console.history.same")} />
      {more > 0 && <p className="text-soft">{t("console.and_more", { n: number(more) })}</p>}
      <ImpactView impact={found.data.impact} />
    </div>
  );
}
