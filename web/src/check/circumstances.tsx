import type { components } from "../api/schema.gen";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { TextField } from "../ui/fields";
import { t } from "../words";

/** What can be said of the circumstances of a question, as it stands in an address. */
export const circumstances = ["ip", "place", "strong", "attended"] as const;
export type Circumstances = Record<(typeof circumstances)[number], string>;

/** unknown is that nothing is known of them. */
export const unknown: Circumstances = { ip: "", place: "", strong: "", attended: "" };

const tri = (v: string) => (v === "yes" ? true : v === "no" ? false : undefined);

/** contextOf says circumstances as the service is asked. */
export const contextOf = (c: Circumstances): components["schemas"]["Context"] => ({
  ip: c.ip || undefined,
  place: c.place || undefined,
  strong_sign_in: tri(c.strong),
  attended: tri(c.attended),
});

/** CircumstanceFields ask where somebody is and how they signed in. What is left out is not known. */
export function CircumstanceFields({ value, onChange }: { value: Circumstances; onChange: (part: keyof Circumstances, v: string) => void }) {
  return (
    <>
      <TextField label={t("console.field.ip")} hint={t("console.check.not_known")} value={value.ip} onChange={(v) => onChange("ip", v)} />
      <Combobox label={t("console.field.place")} type="sites" value={value.place} onChange={(v) => onChange("place", v ?? "")} />
      {(["strong", "attended"] as const).map((name) => (
        <Choose
          key={name}
          label={t(`console.field.${name}`)}
          none={t("console.check.not_known")}
          value={value[name]}
          onChange={(v) => onChange(name, v)}
          options={["yes", "no"].map((v) => ({ value: v, label: t(`console.value.${v}`) }))}
        />
      ))}
    </>
  );
}
