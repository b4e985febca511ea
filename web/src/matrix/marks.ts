import type { Cell } from "../api/reach";

/** Marks gives each right a letter of its own, whatever its capitals: view and control have V and C, all others one of their own letters. */
export type Marks = Map<string, string>;

export function marksOf(rights: string[]): Marks {
  const marks: Marks = new Map();
  const taken = new Set<string>();
  const give = (right: string, mark: string) => {
    marks.set(right, mark);
    taken.add(mark.toLowerCase());
  };
  for (const right of ["view", "control"]) if (rights.includes(right)) give(right, right.charAt(0).toUpperCase());
  taken.add("v").add("c");
  for (const right of rights.filter((r) => !marks.has(r)).sort()) {
    const own = [...right].find((l) => /[a-z0-9]/i.test(l) && !taken.has(l.toLowerCase()));
    give(right, own?.toLowerCase() ?? `${right.charAt(0)}${marks.size}`);
  }
  return marks;
}

/** rightsOf are all rights that cells hold in any way. */
export const rightsOf = (kinds: Cell[]) => [...new Set(kinds.flatMap((k) => [...k.rights, ...(k.some ?? []), ...(k.later ?? []), ...(k.if ?? [])]))];

/** cellText is what a cell holds, by letters: on some of it in brackets, later after a +, in other circumstances after a ?. */
export function cellText(k: Cell, marks: Marks) {
  const letters = (rights: string[] = []) => {
    const first = ["view", "control"].filter((r) => rights.includes(r));
    return [...first, ...rights.filter((r) => !first.includes(r))].map((r) => marks.get(r) ?? r).join("");
  };
  const part = (sign: string, rights: string[] | undefined, end = "") => (rights?.length ? `${sign}${letters(rights)}${end}` : "");
  return letters(k.rights) + part("(", k.some, ")") + part("+", k.later) + part("?", k.if);
}
