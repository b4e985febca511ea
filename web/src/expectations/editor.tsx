import { RightsTree } from "../rights/tree";
import { WhenField, WhereField, Who } from "../grants/choices";
import { Choose } from "../ui/choose";
import { NoteField, TextField } from "../ui/fields";
import { Part } from "../ui/form/part";
import type { Form } from "../ui/form/use-record-form";
import { t } from "../words";

const label = (name: string) => t(`console.field.${name}`);

const expects = ["never", "always", "someone"] as const;

/** ExpectationFields asks for a statement in the order in which it is read: of whom, what is said, which rights, on what, when. */
export function ExpectationFields({ form }: { form: Form<"expectations"> }) {
  const { row, set, faultOf } = form;
  const part = { on: row.on, depth: row.depth, when: row.when };
  return (
    <div className="sheet">
      <Part>
        <TextField label={label("name")} value={row.name ?? ""} onChange={(v) => set("name", v)} fault={faultOf("name") || faultOf("id")} />
      </Part>
      <Part fault={faultOf("who")}>
        <Who to={row.who ?? {}} onChange={(change) => set("who", (who) => change(who ?? {}))} />
      </Part>
      <Part fault={faultOf("except")}>
        <Who named label={label("except")} to={row.except ?? {}} onChange={(change) => set("except", (except) => change(except ?? {}))} />
      </Part>
      <Part fault={faultOf("expect") || faultOf("at_least")}>
        <div className="grid items-end gap-3 sm:grid-cols-[2fr_1fr]">
          <Choose
            label={label("expect")}
            value={row.expect ?? ""}
            options={expects.map((v) => ({ value: v, label: t(`console.expect.${v}`) }))}
            onChange={(v) => {
              const expect = expects.find((e) => e === v) ?? "never";
              set("expect", expect);
              if (expect !== "someone") set("at_least", undefined);
            }}
          />
          {row.expect === "someone" && (
            <Choose
              label={label("at_least")}
              value={String(row.at_least ?? 1)}
              options={[1, 2, 3, 4, 5].map((n) => ({ value: String(n), label: t("console.counted.people", { count: n }) }))}
              onChange={(v) => set("at_least", Number(v))}
            />
          )}
        </div>
      </Part>
      <Part fault={faultOf("rights")}>
        <RightsTree label={label("rights")} value={row.rights ?? []} onChange={(v) => set("rights", v)} />
      </Part>
      <Part fault={faultOf("on")}>
        <WhereField
          line={part}
          onChange={(change) => {
            set("on", (on) => change({ on, depth: row.depth }).on);
            set("depth", (depth) => change({ on: row.on, depth }).depth);
          }}
        />
      </Part>
      <Part fault={faultOf("when")}>
        <WhenField line={part} onChange={(change) => set("when", (when) => change({ when }).when)} />
      </Part>
      <Part fault={faultOf("note")}>
        <NoteField label={label("note")} value={row.note ?? ""} onChange={(v) => set("note", v)} />
      </Part>
    </div>
  );
}
