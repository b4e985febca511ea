import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { reasonOf } from "../api/client";
import { drafts, newDraft, type DraftHead } from "../api/drafts";
import { useMakes } from "../session/mandates";
import { CheckBox, TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Busy, Trouble } from "../ui/notice";
import { useSettled } from "../ui/reading";
import { PlaceTabs } from "../ui/tabs";
import { Instant } from "../ui/time";
import { useZone } from "../ui/time-field";
import { t } from "../words";
import { upkeepTabs } from "../upkeep/tabs";

/** Drafts: changes that are gathered, looked at and agreed to before they count. */
export function DraftListPage() {
  const [all, setAll] = useState(false);
  const found = useQuery({ queryKey: ["drafts", all], queryFn: () => drafts(all) });
  const makes = useMakes();
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
        <h1>{t("console.place.upkeep")}</h1>
        <PlaceTabs place="upkeep" tabs={upkeepTabs} />
        {makes("grants") && (
          <span className="ml-auto">
            <Modal title={t("console.draft.new")} button={t("console.draft.new")} className="button primary">
              {(close) => <NewDraft close={close} />}
            </Modal>
          </span>
        )}
      </div>
      <p className="mb-3 max-w-[80ch] text-soft">{t("console.draft.help")}</p>
      <div className="mb-2">
        <CheckBox label={t("console.draft.all")} checked={all} onChange={setAll} />
      </div>
      {found.error && <Trouble error={found.error} />}
      {found.isPending && <Busy />}
      {found.data && (
        <div className="sheet overflow-x-auto">
          {found.data.length === 0 && <p className="px-4 py-3 text-soft">{t("console.draft.none")}</p>}
          {found.data.length > 0 && (
            <table className="w-full">
              <thead>
                <tr className="text-xs text-soft">
                  {["name", "state", "records", "author", "changed"].map((h) => (
                    <th key={h} scope="col" className="px-4 py-2">
                      {t(`console.draft.${h}`)}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {found.data.map((d) => (
                  <tr key={d.id} className="border-t border-line/60">
                    <td className="px-4 py-2">
                      <Link className="link" to={`/drafts/${encodeURIComponent(d.id)}`}>
                        {d.name}
                      </Link>
                    </td>
                    <td className="px-4 py-2">
                      <DraftState of={d} />
                    </td>
                    <td className="px-4 py-2 tabular-nums">{d.records}</td>
                    <td className="px-4 py-2">{d.author.name}</td>
                    <td className="px-4 py-2">
                      <Time at={d.changed} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </div>
      )}
    </>
  );
}

function Time({ at }: { at: string }) {
  const zone = useZone({});
  return <Instant at={at} zone={zone} />;
}

/** DraftState says where a draft has got to, and when something happens to it by itself. */
export function DraftState({ of }: { of: DraftHead }) {
  return (
    <span className={of.problem ? "font-medium text-closes" : undefined}>
      {t(`console.draft.is_${of.state}`)}
      {of.apply_at && (
        <>
          {" "}
          <Time at={of.apply_at} />
        </>
      )}
      {of.until && (
        <>
          , {t("console.draft.until")} <Time at={of.until} />
        </>
      )}
      {of.problem && (
        <>
          {t("console.colon")}
          {of.problem}
        </>
      )}
    </span>
  );
}

function NewDraft({ close }: { close: () => void }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const settled = useSettled();
  const [name, setName] = useState("");
  const [reason, setReason] = useState("");
  const make = useMutation({
    mutationFn: async () => ((await settled()) ? newDraft(name, reason) : undefined),
    onSuccess: async (draft) => {
      if (!draft) return;
      await queries.invalidateQueries({ queryKey: ["drafts"] });
      close();
      void navigate(`/drafts/${encodeURIComponent(draft.id)}`);
    },
  });
  return (
    <>
      <TextField label={t("console.field.name")} value={name} onChange={setName} />
      <TextField label={t("console.reason.label")} value={reason} onChange={setReason} />
      <Footer
        close={close}
        go={() => make.mutate()}
        label={t("console.draft.begin")}
        disabled={make.isPending || !name.trim()}
        fault={make.error ? reasonOf(make.error, t("console.edit.not_saved")) : undefined}
      />
    </>
  );
}
