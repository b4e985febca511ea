import { Generated } from "../ui/form/generated";
import type { Form } from "../ui/form/use-record-form";

/** DeviceFields asks what a device is. Locking it out is an act of its own, and stands on its page. */
export function DeviceFields({ form }: { form: Form<"devices"> }) {
  return <Generated form={form} elsewhere={["lockout"]} />;
}
