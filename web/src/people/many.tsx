import { useState } from "react";
import { AccessButtons } from "../access/give";
import { patched, type Edit } from "../api/edits";
import { Effect } from "../impact/effect";
import { useDoing } from "../impact/use-edits";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { Fault } from "../ui/notice";
import { ReadingArea } from "../ui/reading";
import { TimeField } from "../ui/time-field";
import { t } from "../words";

const what = ["group", "suspend", "reinstate"] as const;

/** Many does one thing with all the people who are picked, as one change. */
export function Many(props: { picked: string[]; onDone: () => void }) {
  return (
    <ReadingArea>
      <Bar {...props} />
    </ReadingArea>
  );
}

function Bar({ picked, onDone }: { picked: string[]; onDone: () => void }) {
  const [doing, setDoing] = useState<(typeof what)[number]>("group");
  const [group, setGroup] = useState<string>();
  const [until, setUntil] = useState<string>();
  const edit = (id: string): Edit =>
    doing === "group"
      ? { op: "add", type: "user_groups", id: group ?? "", list: "members", value: id, until }
      : patched("users", id, { status: doing === "suspend" ? "suspended" : "active" });
  const edits = doing !== "group" || group ? picked.map(edit) : [];
  const { go, busy, fault } = useDoing(edits, onDone);
  const title = t("console.many.title", { n: picked.length });
  return (
    <section aria-label={title} className="sheet mb-3 flex flex-wrap items-end gap-3 p-3">
      <p className="pb-1.5 font-semibold tabular-nums">{title}</p>
      <div className="w-44">
        <Choose
          label={t("console.many.do")}
          value={doing}
          options={what.map((w) => ({ value: w, label: t(`console.many.${w}`) }))}
          onChange={(v) => setDoing(what.find((w) => w === v) ?? "group")}
        />
      </div>
      {doing === "group" && (
        <>
          <div className="w-56">
            <Combobox label={t("console.type.user_groups")} type="user_groups" value={group} onChange={setGroup} />
          </div>
          <div className="w-56">
            <TimeField label={t("console.field.until")} value={until} onChange={setUntil} />
          </div>
        </>
      )}
      <button type="button" className="button primary" disabled={edits.length === 0 || busy} onClick={go}>
        {t("console.many.go")}
      </button>
      <AccessButtons side={{ name: t("console.counted.people", { count: picked.length }), to: { users: picked } }} done={onDone} />
      <button type="button" className="button" onClick={onDone}>
        {t("console.many.none")}
      </button>
      <Effect edits={edits} />
      <Fault text={fault} className="basis-full" />
    </section>
  );
}
