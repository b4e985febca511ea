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

export function chooseTheme(chosen: Theme) {
  localStorage.setItem(key, chosen);
  document.documentElement.dataset.theme = chosen;
}
