import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus, X } from "lucide-react";
import { useState, type ReactNode } from "react";
import { serviceSettings, setServiceSettings, type ServiceSettings } from "../api/audit";
import { reasonOf } from "../api/client";
import { AsDraft } from "../drafts/as-draft";
import { Hooks } from "../hooks/section";
import { useOwner } from "./mandates";
import { serviceTabs } from "./service-tabs";
import { CheckBox, TextField } from "../ui/fields";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { Busy, Fault, Trouble } from "../ui/notice";
import { PlaceTabs } from "../ui/tabs";
import { t } from "../words";

type Rule = ServiceSettings["decisions_of"][number];
type Mode = ServiceSettings["decisions"];

const modes: Mode[] = ["all", "control_and_denials", "none"];

/** ServicePage shows the settings of the service itself: what is kept on record, whether changes need a reason, how long sessions hold. */
export function ServicePage() {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["service"], queryFn: serviceSettings });
  const save = useMutation({
    mutationFn: setServiceSettings,
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["session"] });
      await queries.invalidateQueries({ queryKey: ["service"] });
    },
  });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <>
      <Settings key={JSON.stringify(found.data)} now={found.data} save={save} />
      <Hooks />
    </>
  );
}

/** A number as it is typed; none where the setting has no bound. */
const typed = (n: number) => (n === 0 ? "" : String(n));

type Saving = {
  mutate: (settings: Partial<ServiceSettings>) => void;
  isPending: boolean;
  isSuccess: boolean;
  error: Error | null;
  variables?: Partial<ServiceSettings>;
};

function Settings({ now, save }: { now: ServiceSettings; save: Saving }) {
  const owner = useOwner();
  const [decisions, setDecisions] = useState(now.decisions);
  const [rules, setRules] = useState<Rule[]>(now.decisions_of);
  const [required, setRequired] = useState(now.reason_required);
  const [approval, setApproval] = useState(now.approval);
  const [people, setPeople] = useState(typed(now.approval.more_than));
  const [numbers, setNumbers] = useState({
    keep_days: typed(now.keep_days),
    idle_minutes: typed(now.idle_minutes),
    behind_minutes: typed(now.behind_minutes),
    session_hours: typed(now.session_hours),
  });
  const [faults, setFaults] = useState<Partial<Record<keyof typeof numbers | "people", string>>>({});
  const go = () => {
    const wrong: typeof faults = Object.fromEntries(
      Object.entries(numbers)
        .filter(([name, v]) => !/^\d*$/.test(v.trim()) || (name === "session_hours" && !v.trim()))
        .map(([name]) => [name, t("console.service.number", { label: t(`console.service.${name}`) })]),
    );
    if (!/^\d*$/.test(people.trim())) wrong.people = t("console.service.number", { label: t("console.service.approval_people") });
    setFaults(wrong);
    if (Object.keys(wrong).length > 0) return;
    const read = (v: string) => Number(v.trim() || 0);
    const wanted = {
      decisions,
      decisions_of: rules,
      reason_required: required,
      approval: { ...approval, more_than: read(people) },
      keep_days: read(numbers.keep_days),
      idle_minutes: read(numbers.idle_minutes),
      behind_minutes: read(numbers.behind_minutes),
      session_hours: read(numbers.session_hours),
    };
    // Only what was changed is sent, so that nobody's other change is undone, by a draft that is applied later least of all.
    const changed = Object.entries(wanted).filter(([name, value]) => JSON.stringify(value) !== JSON.stringify(now[name as keyof typeof wanted]));
    save.mutate(Object.fromEntries(changed));
  };
  const numberField = (name: keyof typeof numbers) => (
    <TextField label={t(`console.service.${name}`)} value={numbers[name]} fault={faults[name]} onChange={(v) => setNumbers({ ...numbers, [name]: v })} />
  );
  return (
    <form onSubmit={(e) => e.preventDefault()} className="mx-auto max-w-4xl">
      <div className="mb-4 flex items-center gap-3">
        <h1>{t("console.service.title")}</h1>
        <span className="mr-auto">
          <PlaceTabs place="service" tabs={serviceTabs} />
        </span>
        {save.isSuccess && <p role="status">{t("console.service.saved")}</p>}
        {owner && (
          <button type="button" className="button primary" disabled={save.isPending} onClick={go}>
            {t("console.service.save")}
          </button>
        )}
      </div>
      <Fault text={save.error ? reasonOf(save.error, t("console.unreachable")) : undefined} className="mb-3" />
      <AsDraft error={save.error} name={t("console.service.title")} act="change_settings" body={save.variables} />
      <fieldset disabled={!owner} className="flex flex-col gap-5">
        <Part title={t("console.service.record")}>
          <div className="max-w-96">
            <ModeChoice label={t("console.service.decisions")} value={decisions} onChange={setDecisions} />
          </div>
          <div>
            <p className="font-medium">{t("console.service.rules")}</p>
            <p className="text-[0.86rem] text-soft">{t("console.service.rules_help")}</p>
            <ol className="flex flex-col gap-2 py-2">
              {rules.map((r, i) => (
                <li key={i} className="flex flex-wrap items-end gap-3">
                  <div className="w-52">
                    <Combobox label={t("console.type.rights")} type="rights" value={r.right} onChange={(v) => setRules(rules.with(i, { ...r, right: v }))} />
                  </div>
                  <div className="w-52">
                    <Combobox label={t("console.type.sites")} type="sites" value={r.site} onChange={(v) => setRules(rules.with(i, { ...r, site: v }))} />
                  </div>
                  <div className="w-64">
                    <ModeChoice label={t("console.service.keep")} value={r.keep} onChange={(keep) => setRules(rules.with(i, { ...r, keep }))} />
                  </div>
                  <button
                    type="button"
                    className="button px-2"
                    aria-label={t("console.service.take_rule", { n: i + 1 })}
                    onClick={() => setRules(rules.toSpliced(i, 1))}
                  >
                    <X size={15} aria-hidden />
                  </button>
                </li>
              ))}
            </ol>
            <button type="button" className="button" onClick={() => setRules([...rules, { keep: "none" }])}>
              <Plus size={15} aria-hidden /> {t("console.service.add_rule")}
            </button>
          </div>
          <div className="max-w-96">{numberField("keep_days")}</div>
        </Part>
        <Part title={t("console.service.reasons")}>
          <CheckBox label={t("console.service.reason_required")} checked={required} onChange={setRequired} />
        </Part>
        <Part title={t("console.service.approval")}>
          <p className="text-[0.86rem] text-soft">{t("console.service.approval_help")}</p>
          {(["control", "limits", "everyone", "everything", "mandates"] as const).map((rule) => (
            <CheckBox
              key={rule}
              label={t(`console.service.approval_${rule}`)}
              checked={approval[rule] ?? false}
              onChange={(on) => setApproval({ ...approval, [rule]: on })}
            />
          ))}
          <div className="max-w-96">
            <TextField label={t("console.service.approval_people")} value={people} fault={faults.people} onChange={setPeople} />
          </div>
        </Part>
        <Part title={t("console.service.sessions")}>
          <div className="grid max-w-3xl gap-3 md:grid-cols-2">
            {numberField("idle_minutes")}
            {numberField("behind_minutes")}
            {numberField("session_hours")}
          </div>
        </Part>
      </fieldset>
    </form>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="sheet flex flex-col gap-4 px-4 py-3">
      <h2>{title}</h2>
      {children}
    </section>
  );
}

function ModeChoice({ label, value, onChange }: { label: string; value: Mode; onChange: (v: Mode) => void }) {
  return (
    <Choose
      label={label}
      value={value}
      options={modes.map((m) => ({ value: m, label: t(`console.service.${m}`) }))}
      onChange={(v) => onChange(modes.find((m) => m === v) ?? "all")}
    />
  );
}
