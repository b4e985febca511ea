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

type Values = Record<string, string | number> & { count?: number };

// What is said without values is looked up once: a page says hundreds of words, and again each time it is drawn.
const said = new Map<string, string>();

/** t says a sentence of the catalogue. Where it counts something, count says how many, and the sentence is that of one or of several. */
export function t(key: string | string[], values?: Values): string {
  if (values === undefined) {
    const name = key.toString();
    const text = said.get(name) ?? i18next.t(key);
    said.set(name, text);
    return text;
  }
  const { count, ...rest } = values;
  if (count === undefined || Array.isArray(key)) return i18next.t(key, rest);
  const form = plurals.select(count) === "one" ? "one" : "other";
  return i18next.t(`${key}_${form}`, { ...rest, count: number(count) });
}

const locale = { en: "en-GB", fr: "fr-FR" }[language()];
const plurals = new Intl.PluralRules(locale);

/** labelOf is the name of a field as people know it, where it has one. */
export const labelOf = (field: string) => (i18next.exists(`console.field.${field}`) ? i18next.t(`console.field.${field}`) : undefined);

/** number writes a number as the language does: 12,000 or 12 000. */
export const number = new Intl.NumberFormat(locale).format;

/** timeFormat writes instants as the language does. */
export const timeFormat = (options: Intl.DateTimeFormatOptions) => new Intl.DateTimeFormat(locale, options);
