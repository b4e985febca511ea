import { t } from "../words";

/** Codes are shown this once, to be kept where they are found when the device is not. */
export function Codes({ codes, done }: { codes: string[]; done: () => void }) {
  return (
    <div className="flex flex-col gap-3">
      <p>{t("console.factor.codes_help")}</p>
      <ul className="grid grid-cols-2 gap-x-6 font-mono">
        {codes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
      <button type="button" className="button primary self-end" onClick={done}>
        {t("console.factor.codes_kept")}
      </button>
    </div>
  );
}
