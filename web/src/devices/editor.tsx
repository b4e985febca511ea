import { useOrigins } from "../api/sources";
import { OriginNote } from "../sources/origin";
import { Generated } from "../ui/form/generated";
import type { Form } from "../ui/form/use-record-form";

/** DeviceFields asks what a device is. Locking it out is an act of its own, and stands on its page. */
export function DeviceFields({ form }: { form: Form<"devices"> }) {
  const id = form.isNew ? "" : form.row.id;
  const kept = useOrigins("devices", id)
    .filter((o) => !o.gone)
    .flatMap((o) => o.fields as ("name" | "kind" | "site" | "tags" | "address")[]);
  return (
    <>
      {id && <OriginNote type="devices" id={id} />}
      <Generated form={form} elsewhere={["lockout", ...kept]} />
    </>
  );
}
