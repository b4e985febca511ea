import type { ReactNode } from "react";
import type { NewSource } from "../api/sources";

export type Put = (change: Partial<NewSource>) => void;
export type FaultOf = (path: string) => string | undefined;
export type PartProps = { at: NewSource; put: Put; fault: FaultOf };

/** Part is a part of a form under a heading of its own. */
export function Part({ title, help, children }: { title: string; help?: string; children: ReactNode }) {
  return (
    <section className="sheet flex flex-col gap-3 px-4 py-3">
      <h2>{title}</h2>
      {help && <p className="text-[0.86rem] text-soft">{help}</p>}
      {children}
    </section>
  );
}
