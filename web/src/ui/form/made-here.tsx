import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { ApiError } from "../../api/client";
import { create, type Listed, type Row } from "../../api/records";
import { useMakes } from "../../session/mandates";
import { useReason } from "../../impact/reason";
import { t } from "../../words";
import { Footer, Modal } from "../modal";
import { Fault } from "../notice";
import { useSettled } from "../reading";
import { useToast } from "../toast";
import { faultsOf } from "./faults";
import { useRecordForm, type Form } from "./use-record-form";

type Props<T extends Listed> = {
  type: T;
  fresh: Partial<Row<T>>;
  /** onMade takes the id of what was made. */
  onMade: (id: string) => void;
  /** children are the fields. */
  children: (form: Form<T>) => ReactNode;
};

/** MadeHere makes a record that something needs that is being written, without leaving that. */
export function MadeHere<T extends Listed>(props: Props<T>) {
  const title = t(`console.new.${props.type}`);
  const makes = useMakes();
  if (!makes(props.type)) return null;
  return (
    <Modal title={title} button={title} className="link min-h-[24px] cursor-pointer self-start text-[0.86rem]">
      {(close) => <Making {...props} close={close} />}
    </Modal>
  );
}

function Making<T extends Listed>({ type, fresh, onMade, children, close }: Props<T> & { close: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const settled = useSettled();
  const { row, latest, set } = useRecordForm(type, fresh as Row<T>);
  const { field: reason, why } = useReason();
  const save = useMutation({
    mutationFn: async () => ((await settled()) ? create(type, latest(), false, why()) : undefined),
    onSuccess: async (saved) => {
      if (!saved?.id) return; // what cannot be read is told where it stands
      await queries.invalidateQueries();
      toast(saved);
      onMade(saved.id);
      close();
    },
  });
  const refused = save.error instanceof ApiError ? save.error : undefined;
  const { faultOf, elsewhere } = faultsOf(type, refused);
  const said = refused?.problem?.faults ? elsewhere.map((f) => f.problem).join(" ") : refused?.message;
  const form: Form<T> = {
    type,
    row,
    isNew: true,
    set: (name, value) => {
      save.reset();
      set(name, value);
    },
    faultOf,
  };
  return (
    <>
      {children(form)}
      {reason(save.error instanceof ApiError ? save.error.problem?.unmet : undefined)}
      <Fault text={save.error && !refused ? t("console.edit.not_saved") : said} />
      <Footer close={close} go={() => save.mutate()} label={t("console.edit.save")} disabled={save.isPending || !row.name} />
    </>
  );
}
