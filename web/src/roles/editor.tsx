import { RightsTree } from "../rights/tree";
import { Generated } from "../ui/form/generated";
import type { Form } from "../ui/form/use-record-form";
import { t } from "../words";

/** RoleFields asks what a role bundles. */
export function RoleFields({ form }: { form: Form<"roles"> }) {
  return (
    <Generated
      form={form}
      own={{ rights: <RightsTree label={t("console.field.rights")} value={form.row.rights ?? []} onChange={(v) => form.set("rights", v)} /> }}
    />
  );
}
