const key = "sentier-theme";

export type Theme = "light" | "dark";

/** theme is the one chosen, or that of the system where none was. */
export function theme(): Theme {
  const kept = localStorage.getItem(key);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

export function startTheme() {
  document.documentElement.dataset.theme = theme();
}

/** chooseTheme has the console look so; undefined: as the system has it. */
export function chooseTheme(chosen: Theme | undefined) {
  if (chosen) localStorage.setItem(key, chosen);
  else localStorage.removeItem(key);
  startTheme();
}
