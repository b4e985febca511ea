import { base } from "../base";
import { useQueryClient } from "@tanstack/react-query";
import { FileUp } from "lucide-react";
import { useState } from "react";
import { ApiError, type Problem } from "../api/client";
import { loadPolicy, type Saved } from "../api/edits";
import { ChangeList } from "../edit/changes";
import { ImpactView } from "../edit/impact";
import { useToast } from "../ui/toast";
import { t } from "../words";
import { ChooseFile } from "../ui/choose-file";

/** The whole policy as a document: out, compared with the one that runs, and in. */
export function PolicyPage() {
  const queries = useQueryClient();
  const toast = useToast();
  const [file, setFile] = useState("");
  const [text, setText] = useState("");
  const [look, setLook] = useState<Saved>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);

  const send = async (body: string, dryRun: boolean, seen?: number) => {
    setBusy(true);
    setProblem(undefined);
    try {
      const done = await loadPolicy(body, dryRun, seen);
      setLook(dryRun ? done : undefined);
      if (!dryRun) {
        setText("");
        toast(done);
        await queries.invalidateQueries();
      }
    } catch (error) {
      setLook(undefined);
      setProblem(error instanceof ApiError ? error.problem : { type: "", title: "", status: 0, detail: t("console.sheets.lost") });
    } finally {
      setBusy(false);
    }
  };
  const choose = async (chosen?: File) => {
    if (!chosen) return;
    const body = await chosen.text();
    setFile(chosen.name);
    setText(body);
    await send(body, true);
  };
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
      <div aria-live="polite">
        {busy && <progress className="mb-4 w-full accent-(--accent)" aria-label={t("console.busy")} />}
        {problem && (
          <section className="sheet mb-5 border-l-4 border-l-breaks p-4">
            <h2>{t("console.policy.refused", { file })}</h2>
            {!problem.faults?.length && <p>{problem.detail}</p>}
            <ul className="mt-2">
              {problem.faults?.map((f, i) => (
                <li key={i} className="border-t border-line/60 py-1">
                  <span className="text-soft tabular-nums">{f.line ? `${f.line}:${f.column ?? 1} ` : ""}</span>
                  <code className="font-mono text-[0.86rem]">{f.path}</code> {f.problem}
                </li>
              ))}
            </ul>
          </section>
        )}
        {look && (
          <section className="sheet p-4">
            <h2>
              {t(look.changes.length === 0 ? "console.policy.same" : "console.policy.differs", { file, n: look.changes.length, revision: look.revision })}
            </h2>
            {look.impact && <ImpactView impact={look.impact} />}
            {look.changes.length > 0 && (
              <>
                <button type="button" className="button primary my-3" disabled={busy} onClick={() => void send(text, false, look.revision)}>
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
