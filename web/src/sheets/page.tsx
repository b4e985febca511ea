import { base } from "../base";
import { useQuery } from "@tanstack/react-query";
import { Upload } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { ApiError } from "../api/client";
import { bringIn, progress, sheets, type Imported, type Progress } from "../api/edits";
import { ChangeList } from "../impact/changes";
import { ImpactView } from "../impact/impact";
import { Choose } from "../ui/choose";
import { labelOf, number, t } from "../words";
import { ChooseFile } from "../ui/choose-file";
import { useReason } from "../impact/reason";
import { UnmetList } from "../impact/unmet";
import { useUpload } from "../ui/use-upload";

/** What people bring in most stands first, and has a help of its own. */
const usual = ["users", "devices", "members", "device_lists"];
const name = (sheet: string) => t(usual.includes(sheet) ? `console.sheets.${sheet}` : `console.types.${sheet}`);

/** useProgress asks, while there is a key, how far its request is. */
function useProgress(key: string) {
  const [far, setFar] = useState<Progress>();
  useEffect(() => {
    if (!key) return;
    const timer = setInterval(() => void progress(key).then(setFar, () => undefined), 300);
    return () => {
      clearInterval(timer);
      setFar(undefined);
    };
  }, [key]);
  return far;
}

/** outcome says what became of a request whose answer was lost: nothing, or everything. */
async function outcome(key: string): Promise<string> {
  if (!key) return t("console.sheets.lost");
  for (let tries = 0; tries < 60; tries++) {
    try {
      const p = await progress(key);
      if (p.state !== "running") return t(p.state === "done" ? "console.sheets.lost_done" : "console.sheets.lost_nothing", { revision: p.revision ?? 0 });
    } catch (error) {
      if (error instanceof ApiError) break; // somebody else by now
    }
    await new Promise((resolve) => setTimeout(resolve, 1000));
  }
  return t("console.sheets.lost");
}

/** CSV files in and out: an import is looked at first, then all of it is brought in, or nothing. */
export function SheetsPage() {
  const [params, setParams] = useSearchParams();
  const sheet = params.get("sheet") ?? "users";
  const there = useQuery({ queryKey: ["sheets"], queryFn: sheets, staleTime: Infinity });
  const others = Object.keys(there.data ?? {}).filter((s) => !usual.includes(s));
  const [key, setKey] = useState("");
  const { field: reason, why } = useReason();
  const running = useRef(""); // the key of the request on its way, by which is found out what became of it
  const { file, look, problem, busy, choose, go, clear } = useUpload<Imported>(
    (text, dryRun) => {
      const run = dryRun ? "" : `import-${crypto.randomUUID()}`;
      setKey(run);
      running.current = run;
      return bringIn(sheet, text, dryRun, run, dryRun ? undefined : why());
    },
    () => outcome(running.current),
  );
  const far = useProgress(busy ? key : "");
  return (
    <div className="mx-auto max-w-4xl">
      <h1 className="mb-4">{t("console.sheets.title")}</h1>
      <section className="sheet mb-5 flex flex-wrap items-end gap-4 p-4">
        <div className="w-56">
          <Choose
            label={t("console.sheets.which")}
            value={sheet}
            options={[...usual, ...others].map((s) => ({ value: s, label: name(s) }))}
            onChange={(v) => {
              setParams({ sheet: v });
              clear();
            }}
          />
        </div>
        <ChooseFile accept=".csv,text/csv" choose={(file) => void choose(file)}>
          <Upload size={15} aria-hidden /> {t("console.sheets.choose")}
        </ChooseFile>
        <a className="button ml-auto" href={`${base}api/v1/sheets/${sheet}`} download>
          {t("console.sheets.export")}
        </a>
        <p className="basis-full text-[0.86rem] text-soft">
          {usual.includes(sheet) ? t(`console.sheets.help_${sheet}`) : t("console.sheets.columns", { columns: (there.data?.[sheet] ?? []).join(", ") })}
        </p>
      </section>
      <div aria-live="polite">
        {busy && (
          <p className="mb-4">
            <progress
              className="w-full accent-(--accent)"
              aria-label={t("console.busy")}
              value={far?.of ? far.done : undefined}
              max={far?.of ? far.of : undefined}
            />
            <span className="text-[0.86rem] text-soft tabular-nums">
              {far?.of ? t("console.sheets.writing", { done: number(far.done), of: number(far.of) }) : t("console.sheets.reading")}
            </span>
          </p>
        )}
        {problem && (
          <section className="sheet mb-5 border-l-4 border-l-breaks p-4">
            <h2>{t("console.sheets.refused", { file })}</h2>
            {!problem.faults?.length && <p>{problem.detail}</p>}
            {Boolean(problem.faults?.length) && (
              <table className="mt-2 w-full">
                <thead>
                  <tr className="text-xs text-soft">
                    {["row", "column", "fault"].map((h) => (
                      <th key={h} scope="col" className="py-1 pr-4">
                        {t(`console.sheets.${h}`)}
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {problem.faults?.map((f, i) => (
                    <tr key={i} className="border-t border-line/60 align-top">
                      <td className="py-1 pr-4 tabular-nums">{f.line}</td>
                      <td className="py-1 pr-4">{labelOf(f.path) ?? f.path}</td>
                      <td className="py-1">{f.problem}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </section>
        )}
        {look && (
          <section className="sheet p-4">
            <h2>
              {look.saved
                ? t("console.sheets.done", { file, revision: look.revision })
                : t("console.sheets.look", { file, count: look.rows, revision: look.revision })}
            </h2>
            <dl className="my-3 grid grid-cols-3 gap-4">
              {(["added", "changed", "same"] as const).map((k) => (
                <div key={k}>
                  <dt className="text-xs text-soft">{t(`console.sheets.${k}`)}</dt>
                  <dd className="text-2xl font-semibold tabular-nums">{look[k]}</dd>
                </div>
              ))}
            </dl>
            {!look.saved && <UnmetList unmet={look.unmet} />}
            {!look.saved && <div className="mb-3 max-w-96">{reason(look.unmet)}</div>}
            {!look.saved && (
              <button type="button" className="button primary mb-4" disabled={busy || look.added + look.changed === 0} onClick={go}>
                {t("console.sheets.bring_in")}
              </button>
            )}
            {look.impact && (
              <div className="mb-3">
                <h3 className="text-xs font-medium text-soft">{t("console.impact.title")}</h3>
                <ImpactView impact={look.impact} />
              </div>
            )}
            <div className="max-h-96 overflow-auto" tabIndex={0} role="region" aria-label={t("console.edit.effect")}>
              <ChangeList changes={look.changes ?? []} none={t("console.edit.nothing")} />
            </div>
          </section>
        )}
      </div>
    </div>
  );
}
