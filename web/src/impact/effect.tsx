import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { change, type Edit } from "../api/edits";
import { useDebounced } from "../ui/use-debounced";
import { t } from "../words";
import { ImpactView } from "./impact";

/** Effect tells who would gain and lose what by edits that are not made yet. What is wrong with them is told once they are made. */
export function Effect({ edits }: { edits: Edit[] }) {
  const asked = useDebounced(JSON.stringify(edits), 250);
  const look = useQuery({
    queryKey: ["effect", asked],
    queryFn: () => change(JSON.parse(asked) as Edit[], true),
    enabled: edits.length > 0 && asked !== "[]",
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 0,
    gcTime: 0,
  });
  if (edits.length === 0 || !look.data?.impact) return null;
  return (
    <section aria-label={t("console.impact.title")} aria-live="polite" className="basis-full">
      <h3 className="text-xs font-medium text-soft">{t("console.impact.title")}</h3>
      <ImpactView impact={look.data.impact} />
    </section>
  );
}
