import { Languages } from "lucide-react";
import { chooseLanguage, language } from "../session/language";
import { t } from "../words";

const other = { en: "fr", fr: "en" } as const;

/** LanguageButton changes to the other language, by whose own name it is called. */
export function LanguageButton() {
  const to = other[language()];
  return (
    <button type="button" lang={to} className="button border-transparent bg-transparent px-2" onClick={() => chooseLanguage(to)}>
      <Languages size={16} aria-hidden />
      {t("console.other_language")}
    </button>
  );
}
