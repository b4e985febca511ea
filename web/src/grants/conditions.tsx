import { useState } from "react";
import type { Line } from "../api/records";
import { states } from "../devices/states";
import { Choose } from "../ui/choose";
import { ManyBox } from "../ui/combobox";
import { CheckBox, WordsField } from "../ui/fields";
import { t } from "../words";

type If = NonNullable<Line["if"]>;

const label = (name: string) => t(`console.field.${name}`);

/** networkFault says what is wrong with one network: an address, with or without the length of its prefix. */
function networkFault(word: string) {
  const v4 = /^(\d{1,3})(\.\d{1,3}){3}(\/\d{1,2})?$/.test(word) && word.split(/[./]/).every((n, i) => Number(n) <= (i === 4 ? 32 : 255));
  const v6 = /^[0-9a-f:]*:[0-9a-f:.]*(\/\d{1,3})?$/i.test(word);
  return v4 || v6 ? "" : t("console.form.no_network", { text: word });
}

/** ConditionFields ask what has to be met besides. They are folded until one is wanted. */
export function ConditionFields({ value, onChange }: { value: If; onChange: (change: (v: If) => If) => void }) {
  const [open, setOpen] = useState(Object.keys(value).length > 0);
  const set = (part: Partial<If>) => onChange((v) => ({ ...v, ...part }));
  if (!open) {
    return (
      <div className="flex flex-col gap-1">
        <span className="text-xs font-medium text-soft">{label("only_if")}</span>
        <button type="button" className="button self-start" onClick={() => setOpen(true)}>
          {t("console.grant.add_condition")}
        </button>
      </div>
    );
  }
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{label("only_if")}</legend>
      <WordsField
        label={t("console.edit.networks")}
        hint="10.20.0.0/16"
        value={value.networks ?? []}
        check={networkFault}
        onChange={(networks) => set({ networks })}
      />
      <ManyBox label={label("places")} type="sites" value={value.places ?? []} onChange={(places) => set({ places })} />
      <div className="flex flex-wrap gap-x-4" role="group" aria-label={label("state")}>
        {states.map((s) => (
          <CheckBox
            key={s}
            label={t(`console.value.${s}`)}
            checked={value.states?.includes(s) ?? false}
            onChange={(on) => set({ states: states.filter((x) => (x === s ? on : value.states?.includes(x))) })}
          />
        ))}
      </div>
      <div className="grid grid-cols-2 gap-2">
        <Either label={label("strong")} value={value.strong_sign_in} onChange={(strong_sign_in) => set({ strong_sign_in })} />
        <Either label={label("attended")} value={value.attended} onChange={(attended) => set({ attended })} />
      </div>
    </fieldset>
  );
}

/** Either is yes, no, or not asked. */
function Either({ label, value, onChange }: { label: string; value: boolean | undefined; onChange: (v: boolean | undefined) => void }) {
  return (
    <Choose
      label={label}
      none={t("console.edit.either")}
      value={value === undefined ? "" : value ? "yes" : "no"}
      options={["yes", "no"].map((v) => ({ value: v, label: t(`console.value.${v}`) }))}
      onChange={(v) => onChange(v === "" ? undefined : v === "yes")}
    />
  );
}
