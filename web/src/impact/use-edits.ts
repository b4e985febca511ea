import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useLayoutEffect, useRef } from "react";
import { reasonOf } from "../api/client";
import { change, type Edit, type Saved } from "../api/edits";
import { useSettled } from "../ui/reading";
import { useToast } from "../ui/toast";
import { t } from "../words";
import { useReason } from "./reason";

/** useEdits makes edits, shows what they did, and keeps what was refused. reason is the field for why they are made. */
export function useEdits() {
  const queries = useQueryClient();
  const toast = useToast();
  const { field: reason, note, needed } = useReason();
  const { mutateAsync, error, isPending } = useMutation({
    mutationFn: (edits: Edit[]) => change(edits, false, note()),
    onSuccess: (saved) => {
      toast(saved);
      return queries.invalidateQueries();
    },
  });
  /** make gives what was saved, and undefined where it was refused. */
  const make = (edits: Edit[]) => mutateAsync(edits).catch(() => undefined);
  return { make, reason, needed, busy: isPending, fault: error ? reasonOf(error, t("console.edit.not_saved")) : "" };
}

/** useDoing makes the edits that the fields beside a button say, once all of them are read. */
export function useDoing(edits: Edit[], done: (saved: Saved) => void) {
  const { make, reason, needed, busy, fault } = useEdits();
  const settled = useSettled();
  const latest = useRef(edits);
  useLayoutEffect(() => {
    latest.current = edits;
  });
  const go = async () => {
    if (!(await settled()) || latest.current.length === 0) return;
    const saved = await make(latest.current);
    if (saved) done(saved);
  };
  return { go: () => void go(), reason, needed, busy, fault };
}
