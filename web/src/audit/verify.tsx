import { useMutation } from "@tanstack/react-query";
import { ShieldCheck } from "lucide-react";
import { checkpoint, verifyAudit } from "../api/audit";
import { reasonOf } from "../api/client";
import { Modal } from "../ui/modal";
import { Fault } from "../ui/notice";
import { download } from "../ui/table-csv";
import { number, t } from "../words";

/** Verify has the whole record read back, and says whether it is what was written. */
export function Verify() {
  return (
    <Modal
      title={t("console.record.verify_title")}
      button={
        <>
          <ShieldCheck size={15} aria-hidden /> {t("console.record.verify")}
        </>
      }
    >
      {(close) => <Verifying close={close} />}
    </Modal>
  );
}

function Verifying({ close }: { close: () => void }) {
  const run = useMutation({ mutationFn: verifyAudit });
  const sign = useMutation({
    mutationFn: checkpoint,
    onSuccess: (c) => download(`sentier-checkpoint-${c.entry}.jsonl`, `${JSON.stringify(c)}\n`, "application/json"),
  });
  const error = run.error ?? sign.error;
  return (
    <>
      <p>{t("console.record.verify_help")}</p>
      <p role="status" className="font-medium">
        {run.isPending && t("console.record.verifying")}
        {run.data?.whole && t("console.record.whole", { entries: number(run.data.entries), checkpoints: number(run.data.checkpoints) })}
      </p>
      <Fault text={run.data?.wrong ? t("console.record.wrong", { what: run.data.wrong }) : error ? reasonOf(error, t("console.unreachable")) : undefined} />
      <p className="text-soft">{t("console.record.checkpoint_help")}</p>
      <div className="sticky bottom-0 -mx-6 flex justify-end gap-2 border-t border-line bg-sheet px-6 py-3">
        <button type="button" className="button" onClick={close}>
          {t("console.close")}
        </button>
        <button type="button" className="button" disabled={sign.isPending} onClick={() => sign.mutate()}>
          {t("console.record.checkpoint")}
        </button>
        <button type="button" className="button primary" disabled={run.isPending} onClick={() => run.mutate()}>
          {t("console.record.verify_go")}
        </button>
      </div>
    </>
  );
}
