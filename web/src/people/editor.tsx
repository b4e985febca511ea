import { useOrigins } from "../api/sources";
import { OriginNote } from "../sources/origin";
import { Generated } from "../ui/form/generated";
import type { Form } from "../ui/form/use-record-form";

/** PersonFields asks who somebody is. Suspending them is an act of its own, and stands on their page. */
export function PersonFields({ form }: { form: Form<"users"> }) {
  const id = form.isNew ? "" : form.row.id;
  const kept = useOrigins("users", id)
    .filter((o) => !o.gone)
    .flatMap((o) => o.fields as ("name" | "email")[]);
  return (
    <>
      {id && <OriginNote type="users" id={id} />}
      <Generated form={form} elsewhere={form.isNew ? [] : ["status", ...kept]} />
    </>
  );
}
