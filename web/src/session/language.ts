const key = "sentier-language";

export type Language = "en" | "fr";

/** language is the one chosen, or that of the browser where none was and it is one of ours. */
export function language(): Language {
  const kept = localStorage.getItem(key);
  if (kept === "en" || kept === "fr") return kept;
  return navigator.language.startsWith("fr") ? "fr" : "en";
}

/** chooseLanguage begins again in another language: what the service said is in the old one. */
export function chooseLanguage(chosen: Language) {
  localStorage.setItem(key, chosen);
  location.reload();
}
