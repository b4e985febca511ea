import type { ReactNode } from "react";
import { Link } from "react-router";
import { number, t } from "../words";

/** Section is a sheet with a head; its count leads to the list of all. */
export function Section({ title, count, to, children }: { title: string; count?: number; to?: string; children: ReactNode }) {
  const shown = count === undefined ? "" : number(count);
  return (
    <section className="sheet" aria-label={title}>
      <h2 className="flex items-baseline justify-between border-b border-line px-4 py-2">
        {title}
        {to ? (
          <Link className="link font-normal tabular-nums" to={to} aria-label={t("console.today.all_of", { title, n: shown })}>
            {shown}
          </Link>
        ) : (
          <span className="font-normal text-soft tabular-nums">{shown}</span>
        )}
      </h2>
      {children}
    </section>
  );
}

/** listLook is how the lists of a section look. */
export const listLook = "flex flex-col px-4 py-2 [&>li]:py-1";
