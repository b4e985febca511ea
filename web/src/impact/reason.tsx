import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState, type ReactNode } from "react";
import type { Session } from "../api/client";
import type { Unmet, Why } from "../api/edits";
import { CheckBox, TextField } from "../ui/fields";
import { t } from "../words";

/** Reason asks why a change is made. */
export type Reason = {
  /** field asks for it and, where the change would break expectations, whether it is made all the same: that is said of those alone. */
  field: (unmet?: Unmet[]) => ReactNode;
  /** why is what was typed last. */
  why: () => Why;
  needed: boolean;
};

/** useReason asks why a change is made, which stays in the record. */
export function useReason(): Reason {
  const [text, setText] = useState("");
  const [agreed, setAgreed] = useState<string[]>([]);
  const latest = useRef<Why>({});
  const needed = useQueryClient().getQueryData<Session>(["session"])?.reason_required ?? false;
  const type = (v: string) => {
    latest.current = { ...latest.current, note: v.trim() || undefined };
    setText(v);
  };
  const agree = (to: string[]) => {
    latest.current = { ...latest.current, override: to.length > 0 ? to : undefined };
    setAgreed(to);
  };
  const field = (unmet: Unmet[] = []) => {
    const breaks = unmet.map((u) => u.id);
    const override = breaks.length > 0 && breaks.every((id) => agreed.includes(id));
    return (
      <>
        <TextField label={t(override ? "console.reason.override" : needed ? "console.reason.needed" : "console.reason.label")} value={text} onChange={type} />
        {breaks.length > 0 && <CheckBox label={t("console.expect.override")} checked={override} onChange={(on) => agree(on ? breaks : [])} />}
      </>
    );
  };
  return { field, why: () => latest.current, needed };
}
