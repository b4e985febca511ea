import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useLayoutEffect, useRef } from "react";
import { ApiError, reasonOf } from "../api/client";
import { change, type Edit, type Saved } from "../api/edits";
import { useSettled } from "../ui/reading";
import { useToast } from "../ui/toast";
import { useDebounced } from "../ui/use-debounced";
import { t } from "../words";
import { useReason } from "./reason";

/** useLook tells what edits that are not made yet would do, once whoever types them pauses. */
export function useLook(edits: Edit[]) {
  const asked = useDebounced(JSON.stringify(edits), 250);
  return useQuery({
    queryKey: ["effect", asked],
    queryFn: () => change(JSON.parse(asked) as Edit[], true),
    enabled: edits.length > 0 && asked !== "[]",
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 0,
    gcTime: 0,
  });
}

/** useEdits makes edits, shows what they did, and keeps what was refused. reason is the field for why they are made. */
export function useEdits() {
  const queries = useQueryClient();
  const toast = useToast();
  const { field: reason, why, needed } = useReason();
  const { mutateAsync, error, isPending } = useMutation({
    mutationFn: (edits: Edit[]) => change(edits, false, why()),
    onSuccess: (saved) => {
      toast(saved);
      return queries.invalidateQueries();
    },
  });
  /** make gives what was saved, and undefined where it was refused. */
  const make = (edits: Edit[]) => mutateAsync(edits).catch(() => undefined);
  const unmet = error instanceof ApiError ? error.problem?.unmet : undefined; // for which it was refused
  return { make, reason, needed, unmet, busy: isPending, fault: error ? reasonOf(error, t("console.edit.not_saved")) : "" };
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
  const look = useLook(edits);
  return { go: () => void go(), reason: reason(look.data?.unmet), needed, busy, fault };
}
