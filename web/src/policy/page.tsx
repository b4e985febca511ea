import { base } from "../base";
import { useQuery } from "@tanstack/react-query";
import { FileUp, Pencil } from "lucide-react";
import { Link } from "react-router";
import { get } from "../api/records";
import { Facts } from "../records/facts";
import { Busy, Trouble } from "../ui/notice";
import { faultText } from "../api/client";
import { loadPolicy, type Saved } from "../api/edits";
import { ChangeList } from "../impact/changes";
import { ImpactView } from "../impact/impact";
import { useReason } from "../impact/reason";
import { UnmetList } from "../impact/unmet";
import { useMay } from "../session/mandates";
import { useToast } from "../ui/toast";
import { useUpload } from "../ui/use-upload";
import { t } from "../words";
import { ChooseFile } from "../ui/choose-file";

/** Settings are those of the policy: how its grants add up, and by which clock it is read where no other is meant. */
function Settings() {
  const found = useQuery({ queryKey: ["record", "settings", "settings"], queryFn: () => get("settings", "settings") });
  const may = useMay("settings", "settings");
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <div className="mb-5">
      <Facts title={t("console.type.settings")} type="settings" row={{ ...settingsUnsaid, ...found.data }} />
      {may.edit && (
        <Link className="button mt-2" to="/records/settings/settings/edit">
          <Pencil size={15} aria-hidden /> {t("console.policy.change_settings")}
        </Link>
      )}
    </div>
  );
}

/** What holds where the settings do not say. */
const settingsUnsaid = { combine: "sum", zone: "UTC" };

/** The whole policy as a document: out, compared with the one that runs, and in. */
export function PolicyPage() {
  const toast = useToast();
  const { field: reason, why } = useReason();
  const { file, look, problem, busy, choose, go } = useUpload<Saved>(
    async (text, dryRun, seen) => {
      const done = await loadPolicy(text, dryRun, seen?.revision, dryRun ? undefined : why());
      if (!dryRun) toast(done);
      return done;
    },
    () => t("console.sheets.lost"),
  );
  return (
    <div className="mx-auto max-w-4xl">
      <h1 className="mb-4">{t("console.policy.title")}</h1>
      <section className="sheet mb-5 flex flex-wrap items-center gap-3 p-4">
        <ChooseFile accept=".yaml,.yml,.json" choose={(file) => void choose(file)}>
          <FileUp size={15} aria-hidden /> {t("console.policy.choose")}
        </ChooseFile>
        <a className="button ml-auto" href={`${base}api/v1/policy?format=yaml`} download="policy.yaml">
          {t("console.policy.dump", { format: "YAML" })}
        </a>
        <a className="button" href={`${base}api/v1/policy?format=json`} download="policy.json">
          {t("console.policy.dump", { format: "JSON" })}
        </a>
        <p className="basis-full text-[0.86rem] text-soft">{t("console.policy.help")}</p>
      </section>
      <Settings />
      <div aria-live="polite">
        {busy && <progress className="mb-4 w-full accent-(--accent)" aria-label={t("console.busy")} />}
        {problem && (
          <section className="sheet mb-5 border-l-4 border-l-breaks p-4">
            <h2>{t("console.policy.refused", { file })}</h2>
            {!problem.faults?.length && <p>{problem.detail}</p>}
            <ul className="mt-2">
              {problem.faults?.map((f, i) => (
                <li key={i} className="border-t border-line/60 py-1">
                  {faultText(f)}
                </li>
              ))}
            </ul>
          </section>
        )}
        {look && !look.saved && (
          <section className="sheet p-4">
            <h2>
              {look.changes.length === 0
                ? t("console.policy.same", { file, revision: look.revision })
                : t("console.policy.differs", { file, count: look.changes.length, revision: look.revision })}
            </h2>
            <UnmetList unmet={look.unmet} />
            {look.impact && <ImpactView impact={look.impact} />}
            {look.changes.length > 0 && (
              <>
                <div className="mt-2 max-w-96">{reason(look.unmet)}</div>
                <button type="button" className="button primary my-3" disabled={busy} onClick={go}>
                  {t("console.policy.load")}
                </button>
                <div className="max-h-[50vh] overflow-auto" tabIndex={0} role="region" aria-label={t("console.edit.effect")}>
                  <ChangeList changes={look.changes} none={t("console.edit.nothing")} />
                </div>
              </>
            )}
          </section>
        )}
      </div>
    </div>
  );
}
