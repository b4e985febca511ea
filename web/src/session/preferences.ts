import { useQuery, useQueryClient } from "@tanstack/react-query";
import { preferences, setPreferences, type Preferences } from "../api/client";
import { chooseLanguage, language } from "./language";
import { chooseTheme, theme } from "./theme";

const key = ["preferences"];

// Changes reach the service in the order in which they were made.
let last: Promise<unknown> = Promise.resolve();

/** usePreferences is how who is signed in has the console, and the function that changes a part of it, here and wherever they sign in. */
export function usePreferences(): [Preferences, (part: Preferences) => Promise<void>] {
  const queries = useQueryClient();
  const own = useQuery({ queryKey: key, queryFn: read, staleTime: Infinity, enabled: false }).data ?? {};
  const change = async (part: Preferences) => {
    const before = queries.getQueryData<Preferences>(key);
    const next = { ...before, ...part };
    queries.setQueryData(key, next); // what is changed right after it is changed with it
    const mine = (last = last.then(() => setPreferences(next)));
    try {
      await mine;
    } catch (error) {
      queries.setQueryData(key, before);
      last = Promise.resolve(undefined);
      throw error;
    }
    apply(next);
  };
  return [own, change];
}

/** useOwnLook reads how somebody has the console once they are signed in, and has it so. It tells whether that is known. */
export function useOwnLook(signedIn: boolean) {
  return !useQuery({ queryKey: key, queryFn: read, staleTime: Infinity, enabled: signedIn }).isPending;
}

/** read reads what is preferred and has the console so. What is changed here is applied once it is kept: a page that begins anew in another language would lose it. */
async function read() {
  const own = await preferences();
  apply(own);
  return own;
}

function apply({ language: l, theme: look }: Preferences) {
  if (look && look !== theme()) chooseTheme(look);
  if (l && l !== language()) chooseLanguage(l);
}
