const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/**
 * changedIn changes one of a list. What somebody typed may be read a moment later than they go on: meanwhile others of the list may have come,
 * gone or changed. before is the one that is meant, as it was, and at where it stood.
 */
export function changedIn<T>(list: T[], at: number, before: T, change: (x: T) => T): T[] {
  const elsewhere = same(list[at], before) ? at : list.findIndex((x) => same(x, before));
  const i = elsewhere < 0 ? at : elsewhere;
  return list.map((x, k) => (k === i ? change(x) : x));
}
