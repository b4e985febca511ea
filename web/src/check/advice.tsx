import { useQuery } from "@tanstack/react-query";
import { advice, type AdviceQuestion, type Advise } from "../api/reach";
import type { Edit } from "../api/edits";
import { useEdits } from "../impact/use-edits";
import { ImpactView } from "../impact/impact";
import { Busy, Fault, Trouble } from "../ui/notice";
import { useMakes } from "../session/mandates";
import { t } from "../words";

/** AdviceView lists what would turn an answer, least first, each with what else it changes and a button that does it. */
export function AdviceView({ question }: { question: AdviceQuestion }) {
  const found = useQuery({ queryKey: ["advice", question], queryFn: () => advice(question), staleTime: 0 });
  const { make, reason, needed, unmet, fault } = useEdits();
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <div data-advice>
      <h2 className="mb-2">{t(found.data.allowed ? "console.advice.away" : "console.advice.towards")}</h2>
      {found.data.items.length === 0 && <p className="text-soft">{t("console.advice.none")}</p>}
      {(needed || unmet) && found.data.items.length > 0 && <div className="mb-2 max-w-96">{reason(unmet)}</div>}
      <Fault text={fault} className="mb-2" />
      <ol className="flex flex-col divide-y divide-line/60">
        {found.data.items.map((item, i) => (
          <Item key={i} item={item} onDo={() => void make(item.edits as Edit[])} />
        ))}
      </ol>
    </div>
  );
}

function Item({ item, onDo }: { item: Advise; onDo: () => void }) {
  const makes = useMakes();
  return (
    <li className="flex flex-wrap items-start gap-3 py-2.5" data-kind={item.kind}>
      <div className="min-w-0 flex-1 basis-80">
        <p className="max-w-[75ch]">{item.text}</p>
        <details className="mt-1">
          <summary className="cursor-pointer text-soft">{t("console.advice.effect")}</summary>
          <ImpactView impact={item.impact} />
        </details>
      </div>
      {makes("grants") && (
        <button type="button" className="button" onClick={onDo}>
          {t("console.advice.do")}
        </button>
      )}
    </li>
  );
}
