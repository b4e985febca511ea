import { useQuery } from "@tanstack/react-query";
import { comparison } from "../api/audit";
import { SomeChanges } from "../impact/changes";
import { ImpactView } from "../impact/impact";
import { Busy, Trouble } from "../ui/notice";
import { t } from "../words";

/** Comparison is what leads from one revision to another, and who gained and lost what. */
export function Comparison({ from, to }: { from: number; to: number }) {
  const found = useQuery({ queryKey: ["comparison", from, to], queryFn: () => comparison(String(from), String(to)), staleTime: Infinity });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <div className="pb-5">
      <p className="text-soft">{t("console.history.compared", { from, to })}</p>
      <SomeChanges changes={found.data.changes} all={found.data.all} none={t("console.history.same")} />
      <ImpactView impact={found.data.impact} />
    </div>
  );
}
