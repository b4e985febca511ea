import i18next from "i18next";
import { initReactI18next } from "react-i18next";
import en from "../../internal/wording/en.json";
import fr from "../../internal/wording/fr.json";
import { language } from "./session/language";

// One catalogue for the service, the command line and the console.
void i18next.use(initReactI18next).init({
  lng: language(),
  fallbackLng: "en",
  resources: { en: { translation: en }, fr: { translation: fr } },
  interpolation: { escapeValue: false },
});
document.documentElement.lang = language();

export const t = (key: string | string[], values?: Record<string, string | number>) => i18next.t(key, values ?? {});

const locale = { en: "en-GB", fr: "fr-FR" }[language()];

/** number writes a number as the language does: 12,000 or 12 000. */
export const number = (n: number) => n.toLocaleString(locale);

/** timeFormat writes instants as the language does. */
export const timeFormat = (options: Intl.DateTimeFormatOptions) => new Intl.DateTimeFormat(locale, options);
