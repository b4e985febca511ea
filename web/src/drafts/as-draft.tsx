import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { ApiError, reasonOf } from "../api/client";
import { newActs, type DraftAct } from "../api/drafts";
import { Fault } from "../ui/notice";
import { t } from "../words";

/** AsDraft saves what was refused for want of a second person as a draft, which somebody else approves. Beside any other error it shows nothing. */
export function AsDraft({ error, name, act, id, body }: { error: unknown; name: string; act: DraftAct["act"]; id?: string; body?: unknown }) {
  const navigate = useNavigate();
  const save = useMutation({
    mutationFn: () => newActs(name, [{ act, id, body }]),
    onSuccess: (draft) => void navigate(`/drafts/${encodeURIComponent(draft.id)}`),
  });
  if (!(error instanceof ApiError) || !error.problem?.approval?.length) return null;
  return (
    <div className="my-2">
      <button type="button" className="button" disabled={save.isPending} onClick={() => save.mutate()}>
        {t("console.draft.as_draft")}
      </button>
      <Fault text={save.error ? reasonOf(save.error, t("console.edit.not_saved")) : undefined} className="mt-2" />
    </div>
  );
}
