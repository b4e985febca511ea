import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { reasonOf } from "../api/client";
import { change, type Edit } from "../api/edits";
import { Fault } from "../ui/notice";
import { useDebounced } from "../ui/use-debounced";
import { t } from "../words";
import { ChangeList } from "./changes";
import { ImpactView } from "./impact";

/** Effect tells who would gain and lose what by edits that are not made yet. What is wrong with them is told once they are made. */
export function Effect({ edits, changes }: { edits: Edit[]; changes?: boolean }) {
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
  if (edits.length === 0) return null;
  if (look.error) return <Fault text={reasonOf(look.error, t("console.edit.no_look"))} />;
  if (!look.data?.impact) return null;
  return (
    <section aria-label={t("console.impact.title")} aria-live="polite" className="basis-full">
      <h3 className="text-xs font-medium text-soft">{t("console.impact.title")}</h3>
      <ImpactView impact={look.data.impact} />
      {changes && (
        <div className="mt-2">
          <ChangeList changes={look.data.changes} none={t("console.access.nothing")} />
        </div>
      )}
    </section>
  );
}
