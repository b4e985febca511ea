import { Languages } from "lucide-react";
import { chooseLanguage, language, type Language } from "../session/language";
import { t } from "../words";

const other = { en: "fr", fr: "en" } as const;

/** LanguageButton changes to the other language, by whose own name it is called; choose keeps it for who is signed in. */
export function LanguageButton({ choose = chooseLanguage }: { choose?: (to: Language) => unknown }) {
  const to = other[language()];
  return (
    <button type="button" lang={to} className="button border-transparent bg-transparent px-2" onClick={() => void choose(to)}>
      <Languages size={16} aria-hidden />
      {t("console.other_language")}
    </button>
  );
}
