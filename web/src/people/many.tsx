import { useState } from "react";
import { patched, type Edit } from "../api/edits";
import { Picked } from "../impact/picked";
import { useWhole } from "../session/mandates";
import { Combobox } from "../ui/combobox";
import { TimeField } from "../ui/time-field";
import { t } from "../words";

const what = ["group", "suspend", "reinstate"] as const;

/** Many does one thing with all the people who are picked, as one change. */
export function Many({ picked, onDone }: { picked: string[]; onDone: () => void }) {
  const [doing, setDoing] = useState<(typeof what)[number]>("group");
  const whole = useWhole(); // a delegate changes the members of groups, and no accounts
  const [group, setGroup] = useState<string>();
  const [until, setUntil] = useState<string>();
  const edit = (id: string): Edit =>
    doing === "group"
      ? { op: "add", type: "user_groups", id: group ?? "", list: "members", value: id, until }
      : patched("users", id, { status: doing === "suspend" ? "suspended" : "active" });
  const edits = doing !== "group" || group ? picked.map(edit) : [];
  const side = { name: t("console.counted.people", { count: picked.length }), to: { users: picked } };
  return (
    <Picked count={picked.length} what={whole ? what : ["group"]} doing={doing} onDoing={setDoing} edits={edits} side={side} onDone={onDone}>
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
    </Picked>
  );
}
