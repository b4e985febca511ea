import { ChevronDown, ChevronRight } from "lucide-react";
import { useState, type ReactNode } from "react";
import type { Grant, Line } from "../api/records";
import { Choose } from "../ui/choose";
import { Adder, type Findable } from "../ui/combobox";
import { CheckBox, Chips, NoteField, TextField } from "../ui/fields";
import { AddButton, TakeOut } from "../ui/form/generated";
import type { Form } from "../ui/form/use-record-form";
import { Fault } from "../ui/notice";
import { Name, PointLink } from "../ui/record-link";
import { TimeField } from "../ui/time-field";
import { TypeMark } from "../ui/type-mark";
import { t } from "../words";
import { ConditionFields } from "./conditions";
import { LimitsField } from "./limits";
import { Sentence } from "./lines";

const label = (name: string) => t(`console.field.${name}`);

/** GrantFields asks in the order in which people think: who, what, where, when, only if. */
export function GrantFields({ form }: { form: Form<"grants"> }) {
  const { row, set, faultOf } = form;
  const effects = ["allow", "deny"] as const;
  return (
    <div className="sheet">
      <Part>
        <div className="grid gap-3 sm:grid-cols-[2fr_1fr]">
          <TextField label={label("name")} value={row.name ?? ""} onChange={(v) => set("name", v)} fault={faultOf("name") || faultOf("id")} />
          <Choose
            label={label("effect")}
            value={row.effect ?? "allow"}
            options={effects.map((v) => ({ value: v, label: t(`console.effect.${v}`) }))}
            onChange={(v) =>
              set(
                "effect",
                effects.find((e) => e === v),
              )
            }
          />
        </div>
      </Part>
      <Part fault={faultOf("to")}>
        <Who to={row.to ?? {}} onChange={(to) => set("to", to)} />
      </Part>
      <Part fault={faultOf("lines")}>
        <Lines lines={row.lines ?? []} onChange={(lines) => set("lines", lines)} />
      </Part>
      <Part fault={faultOf("valid")}>
        <div className="grid gap-3 sm:grid-cols-2">
          <TimeField label={label("from")} value={row.valid?.from} onChange={(from) => set("valid", { ...row.valid, from })} />
          <TimeField label={label("until")} value={row.valid?.until} onChange={(until) => set("valid", { ...row.valid, until })} />
        </div>
      </Part>
      <Part fault={faultOf("note")}>
        <NoteField label={label("note")} value={row.note ?? ""} onChange={(v) => set("note", v)} />
        <CheckBox label={label("enabled")} checked={row.enabled !== false} onChange={(on) => set("enabled", on)} />
      </Part>
    </div>
  );
}

function Part({ fault, children }: { fault?: string; children: ReactNode }) {
  return (
    <div className="flex flex-col gap-2 border-b border-line/60 px-4 py-2.5 last:border-0">
      {children}
      <Fault text={fault} />
    </div>
  );
}

/** Found is what was chosen of several types, told apart by a mark. */
type Found = { type: Findable; id: string };

/** Chosen lists what was chosen of several types. */
function Chosen({ of, onDrop }: { of: Found[]; onDrop: (f: Found) => void }) {
  return (
    <Chips
      items={of.map((f) => ({
        key: `${f.type}/${f.id}`,
        name: f.id,
        shown: (
          <>
            <TypeMark type={f.type} />
            {f.type === "points" ? <PointLink id={f.id} /> : <Name type={f.type} id={f.id} />}
          </>
        ),
      }))}
      onDrop={(key) => {
        const f = of.find((x) => `${x.type}/${x.id}` === key);
        if (f) onDrop(f);
      }}
    />
  );
}

type To = NonNullable<Grant["to"]>;

/** Who finds groups and people together. */
function Who({ to, onChange }: { to: To; onChange: (to: To) => void }) {
  const found: Found[] = [
    ...(to.groups ?? []).map((id) => ({ type: "user_groups" as const, id })),
    ...(to.users ?? []).map((id) => ({ type: "users" as const, id })),
  ];
  const put = (list: Found[]) => onChange({ ...to, groups: idsOf(list, "user_groups"), users: idsOf(list, "users") });
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="sr-only">{t("console.grant.who")}</legend>
      <div className="flex items-end gap-4">
        <div className="min-w-0 flex-1">
          <Adder label={t("console.grant.who")} hint={t("console.grant.who_hint")} types={["user_groups", "users"]} onPick={(f) => put(added(found, f))} />
        </div>
        <CheckBox label={t("console.everyone")} checked={to.everyone === true} onChange={(on) => onChange({ ...to, everyone: on || undefined })} />
      </div>
      <Chosen of={found} onDrop={(f) => put(without(found, f))} />
    </fieldset>
  );
}

const same = (a: Found, b: Found) => a.type === b.type && a.id === b.id;
const added = (list: Found[], f: Found) => (list.some((x) => same(x, f)) ? list : [...list, f]);
const without = (list: Found[], f: Found) => list.filter((x) => !same(x, f));
const idsOf = (list: Found[], type: Findable) => list.filter((f) => f.type === type).map((f) => f.id);

/** Lines are rows in words, each of which opens in place. */
function Lines({ lines, onChange }: { lines: Line[]; onChange: (lines: Line[]) => void }) {
  const [open, setOpen] = useState<number | undefined>(lines.length === 1 && isBare(lines[0]) ? 0 : undefined);
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{t("console.lines")}</legend>
      {lines.map((line, i) => (
        <section key={i} aria-label={t("console.edit.line", { n: i + 1 })} className="rounded-lg border border-line">
          <div className="flex items-start gap-2 px-3 py-1.5">
            <button
              type="button"
              className="flex min-h-[24px] shrink-0 cursor-pointer items-center gap-1 text-xs text-soft hover:text-ink"
              aria-expanded={open === i}
              onClick={() => setOpen(open === i ? undefined : i)}
            >
              {open === i ? <ChevronDown size={14} aria-hidden /> : <ChevronRight size={14} aria-hidden />}
              {t("console.edit.line", { n: i + 1 })}
            </button>
            <p className="min-w-0 flex-1">
              <Sentence line={line} />
            </p>
            <TakeOut
              name={t("console.edit.line", { n: i + 1 })}
              onClick={() => {
                onChange(lines.filter((_, k) => k !== i));
                setOpen(undefined);
              }}
            />
          </div>
          {open === i && <LineFields line={line} onChange={(l) => onChange(lines.map((old, k) => (k === i ? l : old)))} />}
        </section>
      ))}
      <AddButton
        label={t("console.edit.add_line")}
        onClick={() => {
          onChange([...lines, { on: {} }]);
          setOpen(lines.length);
        }}
      />
    </fieldset>
  );
}

/** isBare tells whether nothing was said of a line yet. */
const isBare = (line?: Line) => !line?.roles?.length && !line?.rights?.length;

type Where = NonNullable<Line["on"]>;

const places = [
  ["sites", "sites"],
  ["device_groups", "device_groups"],
  ["devices", "devices"],
  ["points", "points"],
] as const satisfies [Findable, keyof Where][];

/** LineFields are the four choices of a line: what, where, when, only if; and its limits. */
function LineFields({ line, onChange }: { line: Line; onChange: (line: Line) => void }) {
  const what: Found[] = [
    ...(line.roles ?? []).map((id) => ({ type: "roles" as const, id })),
    ...(line.rights ?? []).map((id) => ({ type: "rights" as const, id })),
  ];
  const putWhat = (list: Found[]) => onChange({ ...line, roles: idsOf(list, "roles"), rights: idsOf(list, "rights") });
  const on = line.on ?? {};
  const where: Found[] = places.flatMap(([type, key]) => (on[key] ?? []).map((id) => ({ type, id })));
  const putWhere = (list: Found[]) =>
    onChange({
      ...line,
      on: { ...on, sites: idsOf(list, "sites"), device_groups: idsOf(list, "device_groups"), devices: idsOf(list, "devices"), points: idsOf(list, "points") },
    });
  const when: Found[] = (line.when ?? []).map((id) => ({ type: "schedules" as const, id }));
  const putWhen = (list: Found[]) => onChange({ ...line, when: idsOf(list, "schedules") });
  return (
    <div className="grid gap-x-5 gap-y-3 border-t border-line/60 px-3 py-2.5 sm:grid-cols-2">
      <div className="flex flex-col gap-1.5">
        <Adder label={label("what")} hint={t("console.grant.what_hint")} types={["roles", "rights"]} onPick={(f) => putWhat(added(what, f))} />
        <Chosen of={what} onDrop={(f) => putWhat(without(what, f))} />
      </div>
      <div className="flex flex-col gap-1.5">
        <Adder
          label={label("on")}
          hint={t("console.grant.where_hint")}
          types={["sites", "device_groups", "devices", "points"]}
          onPick={(f) => putWhere(added(where, f))}
        />
        <Chosen of={where} onDrop={(f) => putWhere(without(where, f))} />
        <div className="flex flex-wrap gap-x-4">
          <CheckBox
            label={t("console.everything")}
            checked={on.everything === true}
            onChange={(all) => onChange({ ...line, on: { ...on, everything: all || undefined } })}
          />
          {(on.sites?.length || on.device_groups?.length) && (
            <CheckBox label={t("console.here")} checked={line.depth === "here"} onChange={(here) => onChange({ ...line, depth: here ? "here" : "all" })} />
          )}
        </div>
      </div>
      <div className="flex flex-col gap-1.5">
        <Adder label={label("when")} hint={t("console.grant.when_hint")} types={["schedules"]} onPick={(f) => putWhen(added(when, f))} />
        <Chosen of={when} onDrop={(f) => putWhen(without(when, f))} />
      </div>
      <ConditionFields value={line.if ?? {}} onChange={(v) => onChange({ ...line, if: v })} />
      <LimitsField value={line.limits ?? {}} onChange={(v) => onChange({ ...line, limits: v })} />
    </div>
  );
}
