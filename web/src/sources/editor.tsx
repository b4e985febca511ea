import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus, X } from "lucide-react";
import { useEffect, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { ApiError, reasonOf } from "../api/client";
import { getSource, newSource, putSource, testSource, type NewSource, type SourceTest } from "../api/sources";
import { AsDraft } from "../drafts/as-draft";
import { draftKey, dropDraft, isReload } from "../session/drafts";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { CheckBox, NoteField, TextField } from "../ui/fields";
import { Busy, Fault, Trouble } from "../ui/notice";
import { useSettled } from "../ui/reading";
import { t } from "../words";
import { CalendarFields, InventoryFields, OtherFields, WhichColumns, WhichDays } from "./feed";
import { Mapping, Problems } from "./mapping";
import { Part, type FaultOf, type PartProps, type Put } from "./part";
import { isRead } from "./list";

const fresh: NewSource = { name: "", kind: "directory", directory: { url: "" }, bring: {}, every: 60 };

/** SourceEditorPage sets a source up, or up otherwise. What was typed is kept over a reload. */
export function SourceEditorPage() {
  const { id } = useParams();
  const found = useQuery({ queryKey: ["source", id], queryFn: () => getSource(id ?? ""), enabled: id !== undefined, retry: false });
  if (found.error) return <Trouble error={found.error} />;
  if (id !== undefined && !found.data) return <Busy />;
  const { name, kind, directory, scim, sign_on, calendar, inventory, bring, every, paused, version } = found.data ?? fresh;
  return <Editor id={id} begun={{ name, kind, directory, scim, sign_on, calendar, inventory, bring, every, paused, version }} />;
}

/** useKept is a state that a reload of the page does not lose. */
function useKept(key: string, begun: NewSource) {
  const [value, set] = useState<NewSource>(() => {
    const kept = isReload() ? sessionStorage.getItem(key) : null;
    return kept ? (JSON.parse(kept) as NewSource) : begun;
  });
  useEffect(() => sessionStorage.setItem(key, JSON.stringify(value)), [key, value]);
  useEffect(() => () => dropDraft(key), [key]);
  return [value, set] as const;
}

/** placed are the faults that stand under a field of their own. */
const placed = ["name", "every", "bring.groups", "bring.rules", "bring.share", "bring.calendars", "inventory.columns"].concat(
  ["url", "bind", "secret", "authority", "people.base", "groups.base", "people.filter", "groups.filter"].map((f) => `directory.${f}`),
  ["issuer", "client_id", "secret", "audience", "mandate"].map((f) => `sign_on.${f}`),
  ["url", "secret", "authority"].flatMap((f) => [`calendar.${f}`, `inventory.${f}`, `scim.${f}`]),
);

function Editor({ id, begun }: { id: string | undefined; begun: NewSource }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const settled = useSettled();
  const [at, set] = useKept(draftKey("sources", id ?? "", begun.name), begun);
  const put: Put = (change) => {
    save.reset(); // what was wrong may be right now
    set((was) => ({ ...was, ...change }));
  };
  const save = useMutation({
    mutationFn: async () => ((await settled()) ? (id === undefined ? newSource(at) : putSource(id, at)) : undefined),
    onSuccess: async (made) => {
      if (!made) return;
      await queries.invalidateQueries();
      void navigate(`/sources/${encodeURIComponent(made.id)}`);
    },
  });
  const test = useMutation({ mutationFn: async () => ((await settled()) ? testSource(at, id) : undefined) });
  const failed = save.error ?? test.error;
  const fault: FaultOf = (path) => (failed instanceof ApiError ? failed.problem?.faults?.find((f) => f.path === path)?.problem : undefined);
  const shown = failed instanceof ApiError && failed.problem?.faults?.every((f) => placed.includes(f.path));
  return (
    <form onSubmit={(e) => e.preventDefault()} className="mx-auto max-w-6xl">
      <div className="mb-4 flex flex-wrap items-center gap-3">
        <h1 className="mr-auto">{id === undefined ? t("console.source.new") : begun.name}</h1>
        {isRead(at.kind) && (
          <button
            type="button"
            className="button"
            disabled={test.isPending}
            onClick={() => {
              save.reset();
              test.mutate();
            }}
          >
            {t("console.source.test")}
          </button>
        )}
        <button type="button" className="button primary" disabled={save.isPending} onClick={() => save.mutate()}>
          {t("console.source.save")}
        </button>
      </div>
      <Fault text={failed && !shown ? reasonOf(failed, t("console.edit.not_saved")) : undefined} className="mb-3" />
      <AsDraft error={save.error} name={at.name} act={id === undefined ? "add_source" : "edit_source"} id={id} body={at} />
      <div className="grid items-start gap-5 lg:grid-cols-2">
        <div className="flex flex-col gap-5">
          <Where at={at} put={put} fault={fault} isNew={id === undefined} />
          <Then at={at} put={put} fault={fault} />
        </div>
        <div className="flex flex-col gap-5">
          {at.kind === "calendar" ? (
            <WhichDays at={at} put={put} fault={fault} known={(test.data?.loose ?? []).map((m) => m.outside)} />
          ) : at.kind === "inventory" ? (
            <WhichColumns at={at} put={put} fault={fault} />
          ) : (
            <Who at={at} put={put} fault={fault} test={test.data} />
          )}
          {test.isPending && <Busy />}
          {test.data && <Tested test={test.data} at={at} put={put} />}
        </div>
      </div>
    </form>
  );
}

/** Where asks where the directory is, and as whom it is read. */
function Where({ at, put, fault, isNew }: PartProps & { isNew: boolean }) {
  return (
    <Part title={t("console.source.where")}>
      {isNew && <TextField label={t("console.source.name")} value={at.name} fault={fault("name")} onChange={(name) => put({ name })} />}
      {isNew && (
        <Choose
          label={t("console.source.kind")}
          value={at.kind}
          options={(["directory", "scim", "scim_read", "sign_on", "calendar", "inventory"] as const).map((k) => ({
            value: k,
            label: t(`console.source.kind_${k}`),
          }))}
          onChange={(kind) => put({ ...nothing, kind: kind as NewSource["kind"], ...kinds[kind as NewSource["kind"]] })}
        />
      )}
      {at.kind === "scim" && <p className="text-[0.86rem] text-soft">{t("console.source.scim_help")}</p>}
      {at.kind === "directory" && <Directory at={at} put={put} fault={fault} />}
      {at.kind === "scim_read" && <OtherFields at={at} put={put} fault={fault} />}
      {at.kind === "sign_on" && <Provider at={at} put={put} fault={fault} />}
      {at.kind === "calendar" && <CalendarFields at={at} put={put} fault={fault} />}
      {at.kind === "inventory" && <InventoryFields at={at} put={put} fault={fault} />}
    </Part>
  );
}

/** kinds are what a source of each kind begins with. */
const kinds: Record<NewSource["kind"], Partial<NewSource>> = {
  directory: { directory: { url: "" }, every: 60 },
  scim: { every: 0 },
  scim_read: { scim: { url: "" }, every: 60 },
  sign_on: { sign_on: { issuer: "", client_id: "" }, every: 0 },
  calendar: { calendar: {}, every: 720, bring: { calendars: [{ match: "category", text: "", calendar: "" }] } },
  inventory: { inventory: { format: "csv" }, every: 60 },
};
const nothing: Partial<NewSource> = { directory: undefined, scim: undefined, sign_on: undefined, calendar: undefined, inventory: undefined, bring: {} };

const wordsOf = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** Provider asks at which provider people sign in. */
function Provider({ at, put, fault }: PartProps) {
  const p = at.sign_on ?? { issuer: "", client_id: "" };
  const set = (change: Partial<typeof p>) => put({ sign_on: { ...p, ...change } });
  const [strong, setStrong] = useState((p.strong ?? []).join(" "));
  return (
    <>
      <TextField
        label={t("console.source.issuer")}
        value={p.issuer}
        hint="https://id.example"
        fault={fault("sign_on.issuer")}
        onChange={(issuer) => set({ issuer })}
      />
      <TextField label={t("console.source.client_id")} value={p.client_id} fault={fault("sign_on.client_id")} onChange={(client_id) => set({ client_id })} />
      <div>
        <TextField label={t("console.source.secret")} value={p.secret ?? ""} fault={fault("sign_on.secret")} onChange={(secret) => set({ secret })} />
        <p className="mt-1 text-[0.86rem] text-soft">{t("console.source.secret_help")}</p>
      </div>
      <details>
        <summary className="cursor-pointer text-soft">{t("console.source.more_sign_on")}</summary>
        <div className="mt-3 flex flex-col gap-3">
          <TextField label={t("console.source.groups_claim")} hint="groups" value={p.groups_claim ?? ""} onChange={(groups_claim) => set({ groups_claim })} />
          <TextField label={t("console.source.id_claim")} hint="preferred_username" value={p.id_claim ?? ""} onChange={(id_claim) => set({ id_claim })} />
          <TextField
            label={t("console.source.strong")}
            value={strong}
            onChange={(v) => {
              setStrong(v);
              set({ strong: wordsOf(v) });
            }}
          />
          <NoteField label={t("console.source.authority")} value={p.authority ?? ""} onChange={(authority) => set({ authority })} />
          <TextField
            label={t("console.source.audience")}
            value={p.audience ?? ""}
            fault={fault("sign_on.audience")}
            onChange={(audience) => set({ audience })}
          />
          <Combobox label={t("console.source.token_mandate")} type="mandates" value={p.mandate} onChange={(mandate) => set({ mandate })} />
          <Fault text={fault("sign_on.mandate")} />
        </div>
      </details>
    </>
  );
}

function Directory({ at, put, fault }: PartProps) {
  const d = at.directory ?? { url: "" };
  const dir = (change: Partial<typeof d>) => put({ directory: { ...d, ...change } });
  return (
    <>
      <TextField
        label={t("console.source.url")}
        value={d.url}
        hint="ldaps://directory.example"
        fault={fault("directory.url")}
        onChange={(url) => dir({ url })}
      />
      <Choose
        label={t("console.source.schema")}
        value={d.schema ?? "group-of-names"}
        options={(["group-of-names", "rfc2307", "rfc2307bis", "in-chain"] as const).map((s) => ({ value: s, label: t(`console.source.schema_${s}`) }))}
        onChange={(schema) => dir({ schema: schema as NonNullable<typeof d.schema> })}
      />
      <TextField
        label={t("console.source.people")}
        value={d.people?.base ?? ""}
        hint="ou=people,dc=example"
        fault={fault("directory.people.base")}
        onChange={(base) => dir({ people: { ...d.people, base } })}
      />
      <TextField
        label={t("console.source.groups")}
        value={d.groups?.base ?? ""}
        hint="ou=groups,dc=example"
        fault={fault("directory.groups.base")}
        onChange={(base) => dir({ groups: { ...d.groups, base } })}
      />
      <TextField
        label={t("console.source.bind")}
        value={d.bind ?? ""}
        hint="cn=reader,dc=example"
        fault={fault("directory.bind")}
        onChange={(bind) => dir({ bind })}
      />
      <div>
        <TextField label={t("console.source.secret")} value={d.secret ?? ""} fault={fault("directory.secret")} onChange={(secret) => dir({ secret })} />
        <p className="mt-1 text-[0.86rem] text-soft">{t("console.source.secret_help")}</p>
      </div>
      <details>
        <summary className="cursor-pointer text-soft">{t("console.source.more")}</summary>
        <div className="mt-3 flex flex-col gap-3">
          <NoteField label={t("console.source.authority")} value={d.authority ?? ""} onChange={(authority) => dir({ authority })} />
          <Fault text={fault("directory.authority")} />
          <TextField
            label={t("console.source.people_filter")}
            value={d.people?.filter ?? ""}
            fault={fault("directory.people.filter")}
            onChange={(filter) => dir({ people: { ...d.people, filter } })}
          />
          <TextField
            label={t("console.source.groups_filter")}
            value={d.groups?.filter ?? ""}
            fault={fault("directory.groups.filter")}
            onChange={(filter) => dir({ groups: { ...d.groups, filter } })}
          />
          <TextField label={t("console.source.id_attribute")} value={d.people?.id ?? ""} onChange={(v) => dir({ people: { ...d.people, id: v } })} />
          <CheckBox label={t("console.source.sign_in_box")} checked={d.sign_in ?? false} onChange={(sign_in) => dir({ sign_in })} />
        </div>
      </details>
    </>
  );
}

/** Who asks which groups there feed which groups here. */
function Who({ at, put, fault, test }: PartProps & { test: SourceTest | undefined }) {
  const bring = at.bring ?? {};
  const groups = bring.groups ?? [];
  const rules = bring.rules ?? [];
  const mapped = (list: typeof groups) => put({ bring: { ...bring, groups: list } });
  const ruled = (list: typeof rules) => put({ bring: { ...bring, rules: list } });
  const names = [...(test?.matched ?? []), ...(test?.loose ?? [])].filter((m) => m.found).map((m) => m.outside);
  return (
    <Part title={t("console.source.mapping")} help={t(isRead(at.kind) ? "console.source.mapping_help" : "console.source.mapping_help_other")}>
      <datalist id="groups-there">
        {names.map((n) => (
          <option key={n} value={n} />
        ))}
      </datalist>
      <Fault text={fault("bring.groups") ?? fault("bring.rules")} />
      <ol className="flex flex-col gap-2">
        {groups.map((m, i) => (
          <li key={i} className="grid grid-cols-[1fr_1fr_auto] items-end gap-2">
            <TextField
              label={t("console.source.there")}
              value={m.outside}
              list="groups-there"
              onChange={(outside) => mapped(groups.with(i, { ...m, outside }))}
            />
            <Combobox
              label={t("console.source.here")}
              type="user_groups"
              value={m.group}
              onChange={(group) => mapped(groups.with(i, { ...m, group: group ?? "" }))}
            />
            <button
              type="button"
              className="button px-2"
              aria-label={t("console.source.take_mapping", { name: m.outside || String(i + 1) })}
              onClick={() => mapped(groups.toSpliced(i, 1))}
            >
              <X size={15} aria-hidden />
            </button>
          </li>
        ))}
      </ol>
      <button type="button" className="button self-start" onClick={() => mapped([...groups, { outside: "", group: "" }])}>
        <Plus size={15} aria-hidden /> {t("console.source.add_mapping")}
      </button>
      <details open={rules.length > 0}>
        <summary className="cursor-pointer text-soft">{t("console.source.rules")}</summary>
        <ol className="mt-2 flex flex-col gap-3">
          {rules.map((r, i) => (
            <li key={i} className="grid grid-cols-[1fr_1fr_auto] items-end gap-2">
              <Choose
                label={t("console.source.rule")}
                value={r.match}
                options={(["prefix", "suffix", "pattern", "under"] as const).map((m) => ({ value: m, label: t(`console.source.match_${m}`) }))}
                onChange={(match) => ruled(rules.with(i, { ...r, match: match as typeof r.match }))}
              />
              <TextField label={t("console.source.rule_text")} value={r.text} onChange={(text) => ruled(rules.with(i, { ...r, text }))} />
              <button
                type="button"
                className="button px-2"
                aria-label={t("console.source.take_mapping", { name: r.text || String(i + 1) })}
                onClick={() => ruled(rules.toSpliced(i, 1))}
              >
                <X size={15} aria-hidden />
              </button>
              <TextField label={t("console.source.rule_group")} hint="crew-*" value={r.group} onChange={(group) => ruled(rules.with(i, { ...r, group }))} />
              <CheckBox label={t("console.source.rule_make")} checked={r.make ?? false} onChange={(make) => ruled(rules.with(i, { ...r, make }))} />
            </li>
          ))}
        </ol>
        <button type="button" className="button mt-2" onClick={() => ruled([...rules, { match: "prefix", text: "", group: "" }])}>
          <Plus size={15} aria-hidden /> {t("console.source.add_rule")}
        </button>
      </details>
      <CheckBox label={t("console.source.everybody")} checked={bring.everybody ?? false} onChange={(everybody) => put({ bring: { ...bring, everybody } })} />
    </Part>
  );
}

/** Then asks when it is read, and what becomes of those who come no more. */
function Then({ at, put, fault }: PartProps) {
  const bring = at.bring ?? {};
  const [typed, setTyped] = useState<Record<string, string>>({});
  const whole = (key: "every" | "share", value: number | undefined, none: number) => ({
    value: typed[key] ?? String(value ?? none),
    fault: /^\d*$/.test((typed[key] ?? "0").trim())
      ? fault(key === "every" ? "every" : "bring.share")
      : t("console.service.number", { label: t(`console.source.${key}`) }),
  });
  const read = (key: "every" | "share", v: string) => {
    setTyped({ ...typed, [key]: v });
    if (!/^\d*$/.test(v.trim())) return;
    const n = Number(v.trim() || 0);
    put(key === "every" ? { every: n } : { bring: { ...bring, share: n } });
  };
  return (
    <Part title={t(isRead(at.kind) ? "console.source.then" : "console.source.then_other")}>
      {isRead(at.kind) && (
        <div className="grid grid-cols-2 gap-3">
          <TextField label={t("console.source.every")} {...whole("every", at.every, 0)} onChange={(v) => read("every", v)} />
          <TextField label={t("console.source.share")} {...whole("share", bring.share, 20)} onChange={(v) => read("share", v)} />
        </div>
      )}
      {(at.kind === "directory" || at.kind === "scim" || at.kind === "scim_read") && (
        <Choose
          label={t("console.source.gone")}
          value={bring.gone ?? "suspended"}
          options={(["suspended", "removed", "kept"] as const).map((g) => ({ value: g, label: t(`console.source.gone_${g}`) }))}
          onChange={(gone) => put({ bring: { ...bring, gone: gone as NonNullable<typeof bring.gone> } })}
        />
      )}
      {isRead(at.kind) && (
        <Choose
          label={t("console.source.undo")}
          value={bring.undo ?? "refused"}
          options={(["refused", "until_next"] as const).map((u) => ({ value: u, label: t(`console.source.undo_${u}`) }))}
          onChange={(undo) => put({ bring: { ...bring, undo: undo as NonNullable<typeof bring.undo> } })}
        />
      )}
      <CheckBox
        label={t(`console.source.pause_${isRead(at.kind) ? "directory" : at.kind}`)}
        checked={at.paused ?? false}
        onChange={(paused) => put({ paused })}
      />
    </Part>
  );
}

/** Tested is whether the source can be read, and what its mapping comes to there. */
function Tested({ test, at, put }: { test: SourceTest; at: NewSource; put: Put }) {
  const bring = at.bring ?? {};
  if (!test.ok) return <Fault text={test.why} />;
  return (
    <section className="sheet" data-tested>
      <h2 className="border-b border-line px-4 py-2.5">
        {at.kind === "calendar"
          ? t("console.source.events_ahead", { count: test.events })
          : at.kind === "inventory"
            ? t("console.source.things_in", { count: test.things })
            : t("console.source.read_well", { people: t("console.counted.people", { count: test.people }), count: test.groups })}
      </h2>
      {at.kind !== "inventory" && (
        <Mapping
          kind={at.kind}
          matched={test.matched}
          loose={test.loose}
          take={(was, near) =>
            put({
              bring: {
                ...bring,
                groups: bring.groups?.map((m) => (m.outside === was ? { ...m, outside: near } : m)),
                calendars: bring.calendars?.map((r) => (r.text === was ? { ...r, text: near } : r)),
              },
            })
          }
        />
      )}
      <Problems list={test.problems} more={test.more} />
    </section>
  );
}
