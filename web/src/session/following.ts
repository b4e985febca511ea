import { useSyncExternalStore } from "react";
import { serviceNow } from "./clock";

/** Following is a machine that answers by a copy. */
export type Following = {
  machine: string;
  cut: boolean; // it hears nothing of the machine that writes
  since?: Date; // of the last word, where it is cut; undefined: there was none since it was started
};

// Machines hear each other each second: whoever looks is told when something is the matter, not when a word was late.
const lateSeconds = 20;

let now: Following | undefined;
const listeners = new Set<() => void>();

/** takeStanding takes what a machine that follows says with each answer of its own: its name, and its Age (RFC 9111, section 5.1). */
export function takeStanding(headers: Headers) {
  const machine = headers.get("Sentier-Machine");
  if (machine === null) return; // the machine that writes has answered
  const age = headers.get("Age");
  const cut = age === null || Number(age) > lateSeconds;
  const since = cut && age !== null ? new Date(serviceNow().getTime() - Number(age) * 1000) : undefined;
  if (now?.machine === machine && now.cut === cut && !now.since === !since) return;
  now = { machine, cut, since };
  for (const tell of listeners) tell();
}

/** useFollowing is the machine that answers here, where it follows; undefined: it writes, or has not answered yet. */
export const useFollowing = () =>
  useSyncExternalStore(
    (tell) => {
      listeners.add(tell);
      return () => listeners.delete(tell);
    },
    () => now,
  );
