import type { Grant, Line } from "../api/records";
import { Adder, type Findable } from "../ui/combobox";
import { CheckBox, Chips } from "../ui/fields";
import { Name, PointLink } from "../ui/record-link";
import { TypeMark } from "../ui/type-mark";
import { t } from "../words";
import { RightsTree } from "../rights/tree";
import { RoleFields } from "../roles/editor";
import { ScheduleFields } from "../schedules/editor";
import { ScheduleName } from "../schedules/hover";
import { MadeHere } from "../ui/form/made-here";
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
            <ChosenName of={f} />
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

function ChosenName({ of: { type, id } }: { of: Found }) {
  switch (type) {
    case "points":
      return <PointLink id={id} />;
    case "schedules":
      return <ScheduleName id={id} />;
    default:
      return <Name type={type} id={id} />;
  }
}

export type To = NonNullable<Grant["to"]>;

type WhoProps = { to: To; onChange: (change: (to: To) => To) => void; label?: string; named?: boolean };

/** Who finds groups and people together, and everyone, but where they have to be named. */
export function Who({ to, onChange, label = t("console.grant.who"), named }: WhoProps) {
  const foundIn = (to: To): Found[] => [
    ...(to.groups ?? []).map((id) => ({ type: "user_groups" as const, id })),
    ...(to.users ?? []).map((id) => ({ type: "users" as const, id })),
  ];
  const put = (change: Change) =>
    onChange((to) => {
      const list = change(foundIn(to));
      return { ...to, groups: idsOf(list, "user_groups"), users: idsOf(list, "users") };
    });
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="sr-only">{label}</legend>
      <div className="flex items-end gap-4">
        <div className="min-w-0 flex-1">
          <Adder
            label={label}
            hint={t("console.grant.who_hint")}
            types={["user_groups", "users"]}
            onPick={(f) => put((list) => added(list, f))}
          />
        </div>
        {!named && (
          <CheckBox label={t("console.everyone")} checked={to.everyone === true} onChange={(on) => onChange((to) => ({ ...to, everyone: on || undefined }))} />
        )}
      </div>
      <Chosen of={foundIn(to)} onDrop={(f) => put((list) => without(list, f))} />
    </fieldset>
  );
}

/** Change gives what is chosen after what was. */
type Change = (list: Found[]) => Found[];

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

/** Part is a part of a line: what depends on the line is given as a function of it, since it may have changed since it was shown. */
export type Part = { line: Line; onChange: (change: (line: Line) => Line) => void };

/** What finds roles and rights together. */
export function What({ line, onChange }: Part) {
  const foundIn = (line: Line): Found[] => [
    ...(line.roles ?? []).map((id) => ({ type: "roles" as const, id })),
    ...(line.rights ?? []).map((id) => ({ type: "rights" as const, id })),
  ];
  const put = (change: Change) =>
    onChange((line) => {
      const list = change(foundIn(line));
      return { ...line, roles: idsOf(list, "roles"), rights: idsOf(list, "rights") };
    });
  return (
    <div className="flex flex-col gap-1.5">
      <Adder label={label("what")} hint={t("console.grant.what_hint")} types={["roles", "rights"]} onPick={(f) => put((list) => added(list, f))} />
      <Chosen of={foundIn(line)} onDrop={(f) => put((list) => without(list, f))} />
      <MadeHere type="roles" fresh={{}} onMade={(id) => put((list) => added(list, { type: "roles", id }))}>
        {(form) => <RoleFields form={form} />}
      </MadeHere>
    </div>
  );
}

/** AllRights are all rights as a tree, each with its meaning, to be marked. */
export function AllRights({ line, onChange }: Part) {
  return (
    <details className="sm:col-span-2">
      <summary className="link w-fit cursor-pointer text-xs">{t("console.grant.all_rights")}</summary>
      <RightsTree label={label("rights")} value={line.rights ?? []} onChange={(rights) => onChange((line) => ({ ...line, rights }))} />
    </details>
  );
}

/** WhereField finds sites, groups of devices, devices and points together. */
export function WhereField({ line, onChange }: Part) {
  const on = line.on ?? {};
  const foundIn = (line: Line): Found[] => places.flatMap(([type, key]) => (line.on?.[key] ?? []).map((id) => ({ type, id })));
  const put = (change: Change) =>
    onChange((line) => {
      const list = change(foundIn(line));
      const chosen = Object.fromEntries(places.map(([type, key]) => [key, idsOf(list, type)]));
      return { ...line, on: { ...line.on, ...chosen } };
    });
  return (
    <div className="flex flex-col gap-1.5">
      <Adder
        label={label("on")}
        hint={t("console.grant.where_hint")}
        types={["sites", "device_groups", "devices", "points"]}
        onPick={(f) => put((list) => added(list, f))}
      />
      <Chosen of={foundIn(line)} onDrop={(f) => put((list) => without(list, f))} />
      <div className="flex flex-wrap gap-x-4">
        <CheckBox
          label={t("console.everything")}
          checked={on.everything === true}
          onChange={(all) => onChange((line) => ({ ...line, on: { ...line.on, everything: all || undefined } }))}
        />
        {Boolean(on.sites?.length || on.device_groups?.length) && (
          <CheckBox
            label={t("console.here")}
            checked={line.depth === "here"}
            onChange={(here) => onChange((line) => ({ ...line, depth: here ? "here" : "all" }))}
          />
        )}
      </div>
    </div>
  );
}

/** WhenField finds schedules, any of which must be open. */
export function WhenField({ line, onChange }: Part) {
  const foundIn = (line: Line): Found[] => (line.when ?? []).map((id) => ({ type: "schedules" as const, id }));
  const put = (change: Change) => onChange((line) => ({ ...line, when: idsOf(change(foundIn(line)), "schedules") }));
  return (
    <div className="flex flex-col gap-1.5">
      <Adder label={label("when")} hint={t("console.grant.when_hint")} types={["schedules"]} onPick={(f) => put((list) => added(list, f))} />
      <Chosen of={foundIn(line)} onDrop={(f) => put((list) => without(list, f))} />
      <MadeHere type="schedules" fresh={{ zone: "site" }} onMade={(id) => put((list) => added(list, { type: "schedules", id }))}>
        {(form) => <ScheduleFields form={form} />}
      </MadeHere>
    </div>
  );
}
