import { Generated } from "../ui/form/generated";
import type { Form } from "../ui/form/use-record-form";

/** PersonFields asks who somebody is. Suspending them is an act of its own, and stands on their page. */
export function PersonFields({ form }: { form: Form<"users"> }) {
  return <Generated form={form} elsewhere={form.isNew ? [] : ["status"]} />;
}
