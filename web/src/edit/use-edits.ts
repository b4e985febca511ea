import { useMutation, useQueryClient } from "@tanstack/react-query";
import { reasonOf } from "../api/client";
import { change, type Edit } from "../api/edits";
import { useToast } from "../ui/toast";
import { t } from "../words";

/** useEdits makes edits, shows what they did, and keeps what was refused. */
export function useEdits() {
  const queries = useQueryClient();
  const toast = useToast();
  const { mutateAsync, error, isPending } = useMutation({
    mutationFn: (edits: Edit[]) => change(edits),
    onSuccess: (saved) => {
      toast(saved);
      return queries.invalidateQueries();
    },
  });
  /** make gives what was saved, and undefined where it was refused. */
  const make = (edits: Edit[]) => mutateAsync(edits).catch(() => undefined);
  return { make, busy: isPending, fault: error ? reasonOf(error, t("console.edit.not_saved")) : "" };
}
