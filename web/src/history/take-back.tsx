import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { reasonOf } from "../api/client";
import { undo } from "../api/edits";
import { ChangeList } from "../impact/changes";
import { ImpactView } from "../impact/impact";
import { useReason } from "../impact/reason";
import { UnmetList } from "../impact/unmet";
import { Footer } from "../ui/modal";
import { Busy, Trouble } from "../ui/notice";
import { useToast } from "../ui/toast";
import { t } from "../words";

/** TakeBack shows what taking revisions back would change, and who would gain and lose by it; and does it. */
export function TakeBack({ revisions, close }: { revisions: number[]; close: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const look = useQuery({ queryKey: ["undo", revisions], queryFn: () => undo(revisions, true), retry: false });
  const { field, why } = useReason();
  const [fault, setFault] = useState("");
  const go = useMutation({
    mutationFn: () => undo(revisions, false, why()),
    onSuccess: (saved) => {
      toast(saved);
      close();
      return queries.invalidateQueries();
    },
    onError: (error) => setFault(reasonOf(error, t("console.edit.not_saved"))),
  });
  return (
    <>
      {look.error ? (
        <Trouble error={look.error} />
      ) : look.data ? (
        <>
          <UnmetList unmet={look.data.unmet} />
          <ChangeList changes={look.data.changes} none={t("console.record.no_change")} />
          {look.data.impact && <ImpactView impact={look.data.impact} />}
        </>
      ) : (
        <Busy />
      )}
      {field(look.data?.unmet)}
      <Footer close={close} go={() => go.mutate()} label={t("console.toast.undo")} disabled={!look.data || go.isPending} fault={fault} />
    </>
  );
}
