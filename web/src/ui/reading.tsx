import { createContext, useCallback, useContext, useId, useMemo, useRef, type ReactNode } from "react";

/**
 * What is typed is read when its field is left; a time, by the service. Whoever presses a button right after typing means what was typed:
 * the button waits until all of it is read, and does nothing where some of it cannot be.
 */
type Readings = {
  /** begin notes that a field is being read; what it is read as ends with whether that went well. */
  begin: (field: string, reading: Promise<boolean>) => void;
  /** settled waits for all fields, and tells whether all could be read. */
  settled: () => Promise<boolean>;
};

// Whoever leaves a field by pressing something else means what stood under the pointer: nothing moves until the press is over. What was typed
// stands in the form before what was pressed is done.
let pressing = false;
let waiting: (() => void)[] = [];
const release = () => {
  pressing = false;
  const all = waiting;
  waiting = [];
  for (const go of all) go();
};
window.addEventListener("pointerdown", () => (pressing = true), { capture: true });
window.addEventListener("pointerup", release, { capture: true });
window.addEventListener("pointercancel", release, { capture: true });

/** whenReleased does something once nothing is pressed. */
export function whenReleased<T>(something: () => T | Promise<T>): Promise<T> {
  if (!pressing) return Promise.resolve().then(something);
  return new Promise((done) => waiting.push(() => done(something())));
}

const Context = createContext<Readings | undefined>(undefined);

/** ReadingArea gathers the fields of one form or dialog. */
export function ReadingArea({ children }: { children: ReactNode }) {
  const fields = useRef(new Map<string, Promise<boolean>>());
  const begin = useCallback((field: string, reading: Promise<boolean>) => void fields.current.set(field, reading), []);
  const settled = useCallback(async () => {
    const read = await Promise.all(fields.current.values());
    return read.every(Boolean);
  }, []);
  return <Context.Provider value={useMemo(() => ({ begin, settled }), [begin, settled])}>{children}</Context.Provider>;
}

/** useReading gives a field the function that notes what it reads. */
export function useReading() {
  const area = useContext(Context);
  const field = useId();
  return useCallback((reading: Promise<boolean>) => area?.begin(field, reading), [area, field]);
}

/** useSettled gives a button the function that waits for the fields beside it. */
export function useSettled() {
  const area = useContext(Context);
  return useCallback(() => area?.settled() ?? Promise.resolve(true), [area]);
}
