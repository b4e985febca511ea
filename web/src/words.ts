import i18next from "i18next";
import { initReactI18next } from "react-i18next";
import en from "../../internal/wording/en.json";

// One catalogue for the service, the command line and the console.
void i18next.use(initReactI18next).init({
  lng: "en",
  fallbackLng: "en",
  resources: { en: { translation: en } },
  interpolation: { escapeValue: false },
});

export const say = (key: string | string[], values?: Record<string, string | number>) => i18next.t(key, values ?? {});
