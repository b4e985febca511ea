import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { FilePen, TriangleAlert } from "lucide-react";
import { Fragment, useState, type ReactNode } from "react";
import { useParams } from "react-router";
import { reasonOf } from "../api/client";
import { apply, approve, dropDraft, getDraft, settle, takeOut, type Conflict, type Draft, type DraftAct } from "../api/drafts";
import type { Change } from "../api/edits";
import { ChangeList, said } from "../impact/changes";
import { ImpactView } from "../impact/impact";
import { UnmetList } from "../impact/unmet";
import { inDraft, workOn } from "../session/as-of";
import { CopyLink, hereWithout } from "../ui/copy-link";
import { CheckBox } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Busy, Fault, Trouble } from "../ui/notice";
import { useSettled } from "../ui/reading";
import { TimeField } from "../ui/time-field";
import { labelOf, t } from "../words";
import { DraftState } from "./list";

/** A draft as a whole: what it changes, who gains and loses, what stands in its way, who has agreed to it; and what can be done with it. */
export function DraftPage() {
  const { id = "" } = useParams();
  const found = useQuery({ queryKey: ["draft", id], queryFn: () => getDraft(id), retry: false });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return <Shown draft={found.data} />;
}

/** useAct does something with the draft that is shown, and shows what became of it. */
function useAct() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (act: () => Promise<unknown>) => act(),
    onSuccess: () => queries.invalidateQueries(),
    onError: () => queries.invalidateQueries({ queryKey: ["draft"] }), // it may be another by now
  });
}

function Shown({ draft }: { draft: Draft }) {
  const act = useAct();
  const open = ["open", "waiting", "failed"].includes(draft.state);
  return (
    <div className="mx-auto max-w-6xl">
      <div className="mb-4 flex flex-wrap items-start gap-3">
        <div className="mr-auto min-w-0">
          <p className="text-xs tracking-wide text-soft uppercase">{t("console.draft.draft")}</p>
          <h1>{draft.name}</h1>
          <p className="text-soft">
            {t("console.draft.by", { name: draft.author.name })} · <DraftState of={draft} />
          </p>
          {draft.reason && <p>{draft.reason}</p>}
        </div>
        <CopyLink link={() => hereWithout("as_of")} />
        {open && draft.may.change && inDraft !== draft.id && (
          <button type="button" className="button" onClick={() => workOn(draft.id)}>
            <FilePen size={15} aria-hidden /> {t("console.draft.work")}
          </button>
        )}
        {open && draft.may.change && (
          <Modal title={t("console.draft.drop_title", { name: draft.name })} button={t("console.draft.drop")}>
            {(close) => (
              <>
                <p>{t("console.draft.drop_help", { count: draft.records })}</p>
                <Footer
                  close={close}
                  go={() => act.mutate(() => dropDraft(draft.id).then(close))}
                  label={t("console.draft.drop")}
                  disabled={act.isPending}
                  fault={act.error ? reasonOf(act.error, t("console.edit.not_saved")) : undefined}
                />
              </>
            )}
          </Modal>
        )}
        {open && draft.may.approve && !draft.approval.by && (
          <button type="button" className="button" disabled={act.isPending} onClick={() => act.mutate(() => approve(draft.id, draft.digest))}>
            {t("console.draft.approve")}
          </button>
        )}
        {open && draft.may.apply && (
          <Modal title={t("console.draft.apply_title", { name: draft.name })} button={t("console.draft.apply")} className="button primary">
            {(close) => <Apply draft={draft} close={close} />}
          </Modal>
        )}
      </div>
      <Fault text={act.error ? reasonOf(act.error, t("console.edit.not_saved")) : undefined} className="mb-3" />
      <div className="grid items-start gap-5 lg:grid-cols-[1.5fr_1fr]">
        <div className="flex min-w-0 flex-col gap-5">
          {draft.conflicts.map((c) => (
            <BothVersions
              key={`${c.type}/${c.id}`}
              conflict={c}
              may={draft.may.change}
              busy={act.isPending}
              take={(take) => act.mutate(() => settle(draft.id, { type: c.type, id: c.id, take }))}
            />
          ))}
          {draft.faults.length > 0 && (
            <Sheet title={t("console.draft.faults")}>
              <ul>
                {draft.faults.map((f) => (
                  <li key={f.path + f.problem}>
                    <Fault text={`${f.path}${t("console.colon")}${f.problem}`} />
                  </li>
                ))}
              </ul>
            </Sheet>
          )}
          {draft.acts && draft.acts.length > 0 && (
            <Sheet title={t("console.draft.acts")}>
              {draft.acts.map((a) => (
                <ActView key={a.act + (a.id ?? "")} act={a} />
              ))}
            </Sheet>
          )}
          {(draft.changes.length > 0 || !draft.acts?.length) && (
            <Sheet title={t("console.draft.changes")}>
              <ChangeList
                changes={draft.changes}
                none={t("console.draft.nothing")}
                beside={
                  open && draft.may.change
                    ? (c) => (
                        <button
                          type="button"
                          className="link min-h-[24px] cursor-pointer text-xs print:hidden"
                          disabled={act.isPending}
                          onClick={() => act.mutate(() => takeOut(draft.id, c.type, c.id))}
                        >
                          {t("console.draft.take_out")}
                        </button>
                      )
                    : undefined
                }
              />
            </Sheet>
          )}
        </div>
        <div className="flex min-w-0 flex-col gap-5">
          <Sheet title={t("console.draft.agreed")}>
            <Agreed draft={draft} />
          </Sheet>
          {open && (
            <Sheet title={t("console.impact.title")}>
              <UnmetList unmet={draft.unmet} />
              {draft.impact ? <ImpactView impact={draft.impact} /> : <p className="text-soft">{t("console.draft.no_impact")}</p>}
              <p className="mt-2 text-xs text-soft">{t("console.draft.against", { revision: draft.now })}</p>
            </Sheet>
          )}
        </div>
      </div>
    </div>
  );
}

function Sheet({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="sheet">
      <h2 className="border-b border-line px-4 py-2.5">{title}</h2>
      <div className="px-4 py-3">{children}</div>
    </section>
  );
}

/** ActView says what a draft does to settings of the service, to a source or to a webhook: field by field. */
function ActView({ act }: { act: DraftAct }) {
  const fields = rowsOf((act.body ?? {}) as Record<string, unknown>).filter(([name]) => name !== "version");
  return (
    <>
      <p className="font-medium">
        {t(`console.draft.act_${act.act}`)} {act.id}
      </p>
      <dl className="grid grid-cols-[12rem_1fr] gap-x-3 py-1 text-[0.86rem]">
        {fields.map(([name, value]) => (
          <Fragment key={name}>
            <dt className="text-soft">{name.replaceAll("_", " ")}</dt>
            <dd className="min-w-0 break-words">{value}</dd>
          </Fragment>
        ))}
      </dl>
    </>
  );
}

/** rowsOf lays what an act holds out as names and values, one a row, however deep it stands. */
function rowsOf(body: Record<string, unknown>, before = ""): [string, string][] {
  return Object.entries(body).flatMap(([name, value]): [string, string][] => {
    const whole = before + name;
    if (Array.isArray(value) && value.every((v) => typeof v !== "object")) return [[whole, value.join(", ") || "–"]];
    if (value !== null && typeof value === "object") return rowsOf(value as Record<string, unknown>, `${whole} · `);
    if (typeof value === "boolean") return [[whole, t(value ? "console.value.yes" : "console.value.no")]];
    return [[whole, String(value)]];
  });
}

/** Agreed says whether somebody else has to agree, why, and who has. */
function Agreed({ draft }: { draft: Draft }) {
  const { needed, by } = draft.approval;
  const lost = draft.approval.void;
  if (by) return <p className="font-medium text-holds">{t("console.draft.agreed_by", { name: by.name })}</p>;
  if (needed.length === 0) return <p className="text-soft">{t("console.draft.agreed_none")}</p>;
  return (
    <>
      {lost && <p className="mb-2 text-breaks first-letter:uppercase">{lost}</p>}
      <p className="font-medium text-closes">{t("console.draft.agreed_needed")}</p>
      <ul className="mt-1 list-inside list-disc">
        {needed.map((n) => (
          <li key={n}>{t(`approval.${n}`)}</li>
        ))}
      </ul>
    </>
  );
}

/** BothVersions shows what the draft and what somebody else has made of a record, field by field, and takes one of them. */
function BothVersions({ conflict, may, busy, take }: { conflict: Conflict; may: boolean; busy: boolean; take: (which: "mine" | "theirs") => void }) {
  const { mine, theirs } = conflict;
  const fields = [...new Set([...(mine.fields ?? []), ...(theirs?.fields ?? [])].map((f) => f.field))];
  const version = (c: Change | null | undefined, field: string) => {
    if (!c) return t("console.draft.as_it_was");
    if (c.op === "removed") return t("console.op.removed");
    const f = c.fields?.find((x) => x.field === field);
    return f ? said(f) : t("console.draft.as_it_was");
  };
  return (
    <section className="sheet border-l-4 border-l-closes" data-conflict>
      <div className="flex flex-wrap items-center gap-2 border-b border-line px-4 py-2.5">
        <TriangleAlert size={16} aria-hidden className="text-closes" />
        <h2 className="mr-auto">{t("console.draft.conflict", { name: conflict.name })}</h2>
      </div>
      <table className="w-full">
        <thead>
          <tr className="text-xs text-soft">
            <th scope="col" className="px-4 py-2">
              {t("console.edit.field")}
            </th>
            <th scope="col" className="px-4 py-2">
              {t("console.draft.mine")}
            </th>
            <th scope="col" className="px-4 py-2">
              {t("console.draft.theirs")}
            </th>
          </tr>
        </thead>
        <tbody>
          {(fields.length > 0 ? fields : [""]).map((f) => (
            <tr key={f} className="border-t border-line/60 align-top">
              <th scope="row" className="px-4 py-2">
                {f ? (labelOf(f.split(".").at(-1) ?? "") ?? f) : ""}
              </th>
              <td className="px-4 py-2 break-words">{f ? version(mine, f) : t(`console.op.${mine.op}`)}</td>
              <td className="px-4 py-2 break-words">{f ? version(theirs, f) : t(`console.op.${theirs?.op ?? "changed"}`)}</td>
            </tr>
          ))}
        </tbody>
        {may && (
          <tfoot className="print:hidden">
            <tr className="border-t border-line">
              <td />
              {(["mine", "theirs"] as const).map((which) => (
                <td key={which} className="px-4 py-2">
                  <button type="button" className="button" disabled={busy} onClick={() => take(which)}>
                    {t(`console.draft.take_${which}`)}
                  </button>
                </td>
              ))}
            </tr>
          </tfoot>
        )}
      </table>
    </section>
  );
}

/** Apply asks when a draft is applied, and for how long. */
function Apply({ draft, close }: { draft: Draft; close: () => void }) {
  const act = useAct();
  const settled = useSettled();
  const [at, setAt] = useState<string>();
  const [until, setUntil] = useState<string>();
  const [override, setOverride] = useState(false);
  const unmet = draft.unmet ?? [];
  const go = async () => {
    if (!(await settled())) return;
    act.mutate(() => apply(draft.id, { digest: draft.digest, at, until, override: override ? unmet.map((u) => u.id) : undefined }).then(close));
  };
  return (
    <>
      <p className="text-soft">{t("console.draft.apply_help", { count: draft.records })}</p>
      <TimeField label={t("console.draft.at")} value={at} onChange={setAt} hint={t("console.draft.at_hint")} />
      <TimeField label={t("console.draft.back")} value={until} onChange={setUntil} hint={t("console.draft.back_hint")} />
      <UnmetList unmet={unmet} />
      {unmet.length > 0 && <CheckBox label={t("console.expect.override")} checked={override} onChange={setOverride} />}
      {draft.impact && <ImpactView impact={draft.impact} most={4} />}
      <Footer
        close={close}
        go={() => void go()}
        label={at ? t("console.draft.set_hour") : t("console.draft.apply_now")}
        disabled={act.isPending}
        fault={act.error ? reasonOf(act.error, t("console.edit.not_saved")) : undefined}
      />
    </>
  );
}
