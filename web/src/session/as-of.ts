import { base } from "../base";

const kept = "sentier-as-of";

/**
 * asOf is the revision, or the time, of which the policy is looked at; empty: as it is. Whoever was sent an address with it sees what was meant, and
 * it stays so in this tab until they go back to now.
 */
export const asOf = (() => {
  const given = new URLSearchParams(location.search).get("as_of");
  if (given) sessionStorage.setItem(kept, given);
  return given ?? sessionStorage.getItem(kept) ?? "";
})();

/** inDraft is the id of the draft that is worked on: the policy is shown as it would be with that, and what is saved goes into it; empty: none. */
export const inDraft = asOf.startsWith("draft:") ? asOf.slice("draft:".length) : "";

/** ofBefore tells that what is shown is the policy as it was, which cannot be changed. */
export const ofBefore = asOf !== "" && inDraft === "";

/** workOn shows the policy as it would be with a draft, into which goes what is saved from then on. */
export function workOn(draft: string) {
  location.assign(`${base}devices?${new URLSearchParams({ as_of: `draft:${draft}` }).toString()}`);
}

/** lookBack shows the policy as it was. The page is loaded anew: nothing that was read of another policy stays in memory. */
export function lookBack(to: string) {
  location.assign(`${base}check?${new URLSearchParams({ as_of: to }).toString()}`);
}

/** backToNow shows the policy as it is, on the same page. */
export function backToNow() {
  sessionStorage.removeItem(kept);
  const here = new URL(location.href);
  here.searchParams.delete("as_of");
  location.assign(here);
}

/** linkHere is an address by which others see what is shown here, of the same policy. */
export function linkHere() {
  const here = new URL(location.href);
  if (asOf) here.searchParams.set("as_of", asOf);
  return here.href;
}

// What can be asked of the policy as it was.
const questions =
  /^GET \/api\/v1\/(settings|names|counts|find|policy|proof|(groups|history|uses|seen|rights|roles|kinds|sites|devices|device_groups|users|user_groups|calendars|schedules|grants|expectations|mandates)(\/\{(id|type)\})*(\/mentions)?|reach\/\w+(\/\{id\})?)$|^POST \/api\/v1\/(check|week|matrix)$/;

/** ofThePast tells whether a question goes to the policy as it was. */
export const ofThePast = (method: string, path: string) => asOf !== "" && questions.test(`${method} ${path}`);

// What changes the policy, and can be put into a draft instead.
const changes = /^(POST \/api\/v1\/(changes|undo|revisions\/\{id\}\/undo)|PUT \/api\/v1\/(policy|sheets\/\{id\}))$/;
const records =
  /^(POST|PUT|PATCH|DELETE) \/api\/v1\/(settings|rights|roles|kinds|sites|devices|device_groups|users|user_groups|calendars|schedules|grants|expectations|mandates)(\/\{id\}(\/\w+\/\{entry\})?)?$/;

/** intoDraft tells whether a change goes into the draft that is worked on. */
export const intoDraft = (method: string, path: string) => {
  const what = `${method} ${path}`;
  return inDraft !== "" && (changes.test(what) || records.test(what));
};
