import { reasonOf } from "../api/client";
import type { Edit } from "../api/edits";
import { Fault } from "../ui/notice";
import { t } from "../words";
import { ChangeList } from "./changes";
import { ImpactView } from "./impact";
import { Needs, UnmetList } from "./unmet";
import { useLook } from "./use-edits";

/** Effect tells who would gain and lose what by edits that are not made yet. What is wrong with them is told once they are made. */
export function Effect({ edits, changes }: { edits: Edit[]; changes?: boolean }) {
  const look = useLook(edits);
  if (edits.length === 0) return null;
  if (look.error) return <Fault text={reasonOf(look.error, t("console.edit.no_look"))} />;
  if (!look.data?.impact) return null;
  return (
    <section aria-label={t("console.impact.title")} aria-live="polite" className="basis-full">
      <h3 className="text-xs font-medium text-soft">{t("console.impact.title")}</h3>
      <Needs approval={look.data.approval} />
      <UnmetList unmet={look.data.unmet} />
      <ImpactView impact={look.data.impact} />
      {changes && (
        <div className="mt-2">
          <ChangeList changes={look.data.changes} none={t("console.access.nothing")} />
        </div>
      )}
    </section>
  );
}
