import { chooseLanguage, language } from "../session/language";
import { say } from "../words";

const other = { en: "fr", fr: "en" } as const;

/** LanguageButton changes to the other language, by whose own name it is called. */
export function LanguageButton() {
  const to = other[language()];
  return (
    <button
      type="button"
      lang={to}
      className="button border-transparent bg-transparent px-2"
      onClick={() => chooseLanguage(to)}
      title={say("console.other_language")}
    >
      <span aria-hidden>{to.toUpperCase()}</span>
      <span className="sr-only">{say("console.other_language")}</span>
    </button>
  );
}
