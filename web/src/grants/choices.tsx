import type { Grant, Line } from "../api/records";
import { Adder, type Findable } from "../ui/combobox";
import { CheckBox, Chips } from "../ui/fields";
import { Name, PointLink } from "../ui/record-link";
import { TypeMark } from "../ui/type-mark";
import { t } from "../words";
import { RightsTree } from "../rights/tree";
import { Covers } from "./covers";

const label = (name: string) => t(`console.field.${name}`);

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
            <Covers of={f} />
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

export type To = NonNullable<Grant["to"]>;

/** Who finds groups and people together. */
export function Who({ to, onChange }: { to: To; onChange: (to: To) => void }) {
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

export type Where = NonNullable<Line["on"]>;

const places = [
  ["sites", "sites"],
  ["device_groups", "device_groups"],
  ["devices", "devices"],
  ["points", "points"],
] as const satisfies [Findable, keyof Where][];

type Part = { line: Line; onChange: (line: Line) => void };

/** What finds roles and rights together. */
export function What({ line, onChange }: Part) {
  const found: Found[] = [
    ...(line.roles ?? []).map((id) => ({ type: "roles" as const, id })),
    ...(line.rights ?? []).map((id) => ({ type: "rights" as const, id })),
  ];
  const put = (list: Found[]) => onChange({ ...line, roles: idsOf(list, "roles"), rights: idsOf(list, "rights") });
  return (
    <div className="flex flex-col gap-1.5">
      <Adder label={label("what")} hint={t("console.grant.what_hint")} types={["roles", "rights"]} onPick={(f) => put(added(found, f))} />
      <Chosen of={found} onDrop={(f) => put(without(found, f))} />
    </div>
  );
}

/** AllRights are all rights as a tree, each with its meaning, to be marked. */
export function AllRights({ line, onChange }: Part) {
  return (
    <details className="sm:col-span-2">
      <summary className="link w-fit cursor-pointer text-xs">{t("console.grant.all_rights")}</summary>
      <RightsTree label={label("rights")} value={line.rights ?? []} onChange={(rights) => onChange({ ...line, rights })} />
    </details>
  );
}

/** WhereField finds sites, groups of devices, devices and points together. */
export function WhereField({ line, onChange }: Part) {
  const on = line.on ?? {};
  const found: Found[] = places.flatMap(([type, key]) => (on[key] ?? []).map((id) => ({ type, id })));
  const put = (list: Found[]) =>
    onChange({
      ...line,
      on: { ...on, sites: idsOf(list, "sites"), device_groups: idsOf(list, "device_groups"), devices: idsOf(list, "devices"), points: idsOf(list, "points") },
    });
  return (
    <div className="flex flex-col gap-1.5">
      <Adder
        label={label("on")}
        hint={t("console.grant.where_hint")}
        types={["sites", "device_groups", "devices", "points"]}
        onPick={(f) => put(added(found, f))}
      />
      <Chosen of={found} onDrop={(f) => put(without(found, f))} />
      <div className="flex flex-wrap gap-x-4">
        <CheckBox
          label={t("console.everything")}
          checked={on.everything === true}
          onChange={(all) => onChange({ ...line, on: { ...on, everything: all || undefined } })}
        />
        {Boolean(on.sites?.length || on.device_groups?.length) && (
          <CheckBox label={t("console.here")} checked={line.depth === "here"} onChange={(here) => onChange({ ...line, depth: here ? "here" : "all" })} />
        )}
      </div>
    </div>
  );
}

/** WhenField finds schedules, any of which must be open. */
export function WhenField({ line, onChange }: Part) {
  const found: Found[] = (line.when ?? []).map((id) => ({ type: "schedules" as const, id }));
  const put = (list: Found[]) => onChange({ ...line, when: idsOf(list, "schedules") });
  return (
    <div className="flex flex-col gap-1.5">
      <Adder label={label("when")} hint={t("console.grant.when_hint")} types={["schedules"]} onPick={(f) => put(added(found, f))} />
      <Chosen of={found} onDrop={(f) => put(without(found, f))} />
    </div>
  );
}
