import type { ReactNode } from "react";
import { Fault } from "../notice";

/** Part is one question of a form, with what is wrong with its answer below. */
export function Part({ fault, children }: { fault?: string; children: ReactNode }) {
  return (
    <div className="flex flex-col gap-2 border-b border-line/60 px-4 py-2.5 last:border-0">
      {children}
      <Fault text={fault} />
    </div>
  );
}
