import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState, type ReactNode } from "react";
import type { Session } from "../api/client";
import { TextField } from "../ui/fields";
import { t } from "../words";

/** useReason is the field for why a change is made, which stays in the record; note gives what was typed there last, needed that it must be. */
export function useReason(): { field: ReactNode; note: () => string | undefined; needed: boolean } {
  const [text, setText] = useState("");
  const latest = useRef("");
  const needed = useQueryClient().getQueryData<Session>(["session"])?.reason_required ?? false;
  const type = (v: string) => {
    latest.current = v;
    setText(v);
  };
  const field = <TextField label={t(needed ? "console.reason.needed" : "console.reason.label")} value={text} onChange={type} />;
  return { field, note: () => latest.current.trim() || undefined, needed };
}
