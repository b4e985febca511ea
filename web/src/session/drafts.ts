import type { Row, Type } from "../api/records";
import { serviceNow } from "./clock";

/** Draft is a form that somebody began: what was typed, which version it began with, and when. */
export type Draft<T extends Type> = { row: Row<T>; tag: string; at: string };

const prefix = "sentier-draft/";
const reloadKey = "sentier-reloading";

// A reload goes on with what was typed; whoever leaves a page and comes back is asked.
let goesOn = sessionStorage.getItem(reloadKey);
sessionStorage.removeItem(reloadKey);
window.addEventListener("pagehide", () => sessionStorage.setItem(reloadKey, location.href));

export const draftKey = (type: string, id: string, begun: string) => `${prefix}${type}/${id}/${begun}`;

export function readDraft<T extends Type>(key: string): Draft<T> | undefined {
  try {
    return (JSON.parse(sessionStorage.getItem(key) ?? "null") as Draft<T> | null) ?? undefined;
  } catch {
    return undefined; // of an earlier version of the console
  }
}

export const keepDraft = <T extends Type>(key: string, draft: Omit<Draft<T>, "at">) =>
  sessionStorage.setItem(key, JSON.stringify({ ...draft, at: serviceNow().toISOString() }));
export const dropDraft = (key: string) => sessionStorage.removeItem(key);

/** dropDrafts forgets all forms: whoever signs in next must not find them. */
export function dropDrafts() {
  for (const key of Object.keys(sessionStorage)) if (key.startsWith(prefix)) sessionStorage.removeItem(key);
}

/** isReload tells, once, whether this very page was reloaded. */
export function isReload() {
  const same = goesOn === location.href && performance.getEntriesByType("navigation").some((n) => (n as PerformanceNavigationTiming).type === "reload");
  goesOn = null;
  return same;
}
