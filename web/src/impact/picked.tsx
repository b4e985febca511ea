import type { ComponentProps, ReactNode } from "react";
import { AccessButtons } from "../access/give";
import type { Edit } from "../api/edits";
import { Choose } from "../ui/choose";
import { Fault } from "../ui/notice";
import { ReadingArea } from "../ui/reading";
import { t } from "../words";
import { Effect } from "./effect";
import { useDoing } from "./use-edits";

type Props<W extends string> = {
  count: number;
  /** what can be done with them, of which doing is chosen. */
  what: readonly W[];
  doing: W;
  onDoing: (w: W) => void;
  edits: Edit[];
  side: ComponentProps<typeof AccessButtons>["side"];
  onDone: () => void;
  /** children ask for what doing it needs. */
  children: ReactNode;
};

/** Picked does one thing with all that are picked, as one change. */
export function Picked<W extends string>(props: Props<W>) {
  return (
    <ReadingArea>
      <Bar {...props} />
    </ReadingArea>
  );
}

function Bar<W extends string>({ count, what, doing, onDoing, edits, side, onDone, children }: Props<W>) {
  const { go, reason, busy, fault } = useDoing(edits, onDone);
  const title = t("console.many.title", { n: count });
  return (
    <section aria-label={title} className="sheet mb-3 flex flex-wrap items-end gap-3 p-3">
      <p className="pb-1.5 font-semibold tabular-nums">{title}</p>
      <div className="w-44">
        <Choose
          label={t("console.many.do")}
          value={doing}
          options={what.map((w) => ({ value: w, label: t(`console.many.${w}`) }))}
          onChange={(v) => onDoing(what.find((w) => w === v) ?? doing)}
        />
      </div>
      {children}
      <div className="w-56">{reason}</div>
      <button type="button" className="button primary" disabled={edits.length === 0 || busy} onClick={go}>
        {t("console.many.go")}
      </button>
      <AccessButtons side={side} done={onDone} />
      <button type="button" className="button" onClick={onDone}>
        {t("console.many.none")}
      </button>
      <Effect edits={edits} />
      <Fault text={fault} className="basis-full" />
    </section>
  );
}
