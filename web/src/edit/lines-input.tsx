import { Plus, X } from "lucide-react";
import type { Grant } from "../api/client";
import { Choose } from "../ui/choose";
import { t } from "../words";
import { at, withField, type Value } from "./fields";
import { Refs } from "./inputs";
import { TypedInput } from "./typed-input";

type Props = { label: string; value: Value; onChange: (v: Value) => void };
type Line = NonNullable<Grant["lines"]>[number];

const label = (key: string) => t(`console.field.${key}`);

/** ToInput says who a grant is given to. */
export function ToInput({ label: legend, value, onChange }: Props) {
  const to = (value as object | undefined) ?? {};
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-xs font-medium text-soft">{legend}</legend>
      <Refs label={t("console.types.user_groups")} type="user_groups" value={at(to, "groups")} onChange={(v) => onChange(withField(to, "groups", v))} />
      <Refs label={t("console.types.users")} type="users" value={at(to, "users")} onChange={(v) => onChange(withField(to, "users", v))} />
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          className="size-4 accent-(--accent)"
          checked={at(to, "everyone") === true}
          onChange={(e) => onChange(withField(to, "everyone", e.target.checked || undefined))}
        />
        {t("console.everyone")}
      </label>
    </fieldset>
  );
}

/** LinesInput edits the lines of a grant: what × where × when × only if, and limits. */
export function LinesInput({ label: legend, value, onChange }: Props) {
  const lines = (value as Line[] | undefined) ?? [];
  const set = (i: number, path: string, v: Value) => onChange(lines.map((l, k) => (k === i ? withField(l, path, v) : l)));
  return (
    <fieldset className="flex flex-col gap-3">
      <legend className="mb-1 text-xs font-medium text-soft">{legend}</legend>
      {lines.map((l, i) => (
        <section key={i} aria-label={t("console.edit.line", { n: i + 1 })} className="rounded-lg border border-line p-3">
          <div className="mb-2 flex items-center justify-between">
            <h3 className="font-semibold">{t("console.edit.line", { n: i + 1 })}</h3>
            <button
              type="button"
              className="button px-2"
              aria-label={t("console.edit.take_out", { name: t("console.edit.line", { n: i + 1 }) })}
              onClick={() => onChange(lines.filter((_, k) => k !== i))}
            >
              <X size={15} aria-hidden />
            </button>
          </div>
          <LineInput line={l} set={(path, v) => set(i, path, v)} />
        </section>
      ))}
      <button type="button" className="button self-start" onClick={() => onChange([...lines, { on: {} }])}>
        <Plus size={15} aria-hidden /> {t("console.edit.add_line")}
      </button>
    </fieldset>
  );
}

function LineInput({ line, set }: { line: Line; set: (path: string, v: Value) => void }) {
  const refs = (path: string, type: string, text: string) => <Refs label={text} type={type} value={at(line, path)} onChange={(v) => set(path, v)} />;
  const list = (path: string, text: string, hint: string) => (
    <TypedInput
      label={text}
      hint={hint}
      value={at(line, path)}
      shown={(v) => ((v as string[] | undefined) ?? []).join(", ")}
      read={(text) => text.split(/[,\s]+/).filter(Boolean)}
      onChange={(v) => set(path, v)}
    />
  );
  const tri = (path: string, text: string) => (
    <Choose
      label={text}
      none={t("console.edit.either")}
      value={at(line, path) === true ? "yes" : at(line, path) === false ? "no" : ""}
      options={["yes", "no"].map((v) => ({ value: v, label: t(`console.value.${v}`) }))}
      onChange={(v) => set(path, v === "" ? undefined : v === "yes")}
    />
  );
  return (
    <div className="flex flex-col gap-4">
      <Part title={label("what")} help={t("console.help.what")}>
        {refs("roles", "roles", t("console.types.roles"))}
        {refs("rights", "rights", t("console.types.rights"))}
      </Part>
      <Part title={label("on")} help={t("console.help.on")}>
        {refs("on.sites", "sites", t("console.types.sites"))}
        {refs("on.device_groups", "device_groups", t("console.types.device_groups"))}
        {refs("on.devices", "devices", t("console.types.devices"))}
        {refs("on.points", "points", label("points"))}
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="size-4 accent-(--accent)"
            checked={at(line, "on.everything") === true}
            onChange={(e) => set("on.everything", e.target.checked || undefined)}
          />
          {t("console.everything")}
        </label>
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="size-4 accent-(--accent)"
            checked={line.depth === "here"}
            onChange={(e) => set("depth", e.target.checked ? "here" : "all")}
          />
          {t("console.here")}
        </label>
      </Part>
      <Part title={label("when")} help={t("console.help.when")}>
        {refs("when", "schedules", t("console.types.schedules"))}
      </Part>
      <Part title={label("only_if")} help={t("console.help.only_if")}>
        {list("if.networks", t("console.edit.networks"), "10.20.0.0/16")}
        {refs("if.places", "sites", label("places"))}
        {list("if.states", label("state"), "maintenance")}
        {tri("if.strong_sign_in", label("strong"))}
        {tri("if.attended", label("attended"))}
      </Part>
      <Part title={label("limits")} help={t("console.help.limits")}>
        <LimitsInput value={at(line, "limits")} onChange={(v) => set("limits", v)} />
      </Part>
    </div>
  );
}

function Part({ title, help, children }: { title: string; help: string; children: React.ReactNode }) {
  return (
    <div>
      <h4 className="font-medium">{title}</h4>
      <p className="mb-2 text-[0.86rem] text-soft">{help}</p>
      <div className="grid gap-2.5 sm:grid-cols-2">{children}</div>
    </div>
  );
}

/** LimitsInput is typed as name=number or name=a|b, by commas. */
function LimitsInput({ value, onChange }: { value: Value; onChange: (v: Value) => void }) {
  const shown = (v: Value) =>
    Object.entries((v as Record<string, number | string[]> | undefined) ?? {})
      .map(([k, l]) => `${k}=${Array.isArray(l) ? l.join("|") : l}`)
      .join(", ");
  const read = (s: string) => {
    const pairs = s.split(",").flatMap((p) => {
      const [k, v] = p.split("=").map((part) => part.trim());
      if (!k || !v) return [];
      return [[k, Number.isNaN(Number(v)) ? v.split("|") : Number(v)]];
    });
    return Object.fromEntries(pairs) as Record<string, number | string[]>;
  };
  return <TypedInput label={label("limits")} hint="minutes=30" value={value} shown={shown} read={read} onChange={onChange} />;
}
