// What the clock of the service showed, and when that was heard. The browser's own clock may be wrong, or in a demonstration another one.
let shown = NaN;
let heard = 0;

/** setClock takes what the clock of the service shows now. */
export function setClock(now: string) {
  shown = Date.parse(now);
  heard = performance.now();
}

/** serviceNow is what the clock of the service shows now. */
export function serviceNow(): Date {
  return new Date(Number.isNaN(shown) ? Date.now() : shown + performance.now() - heard);
}
