import type { Listed } from "../api/records";
import { t } from "../words";
import { Facts } from "./facts";
import { History } from "./history";
import { Mentioned } from "./mentioned";

/** Rest ends the page of a record: what it is made of, what refers to it, and what happened to it last. What it is for stands before. */
export function Rest({ type, row, elsewhere, mentioned = true }: { type: Listed; row: { id: string }; elsewhere?: string[]; mentioned?: boolean }) {
  return (
    <div className="grid items-start gap-5 lg:grid-cols-[1.5fr_1fr]">
      <div className="flex min-w-0 flex-col gap-5">
        {mentioned && <Mentioned type={type} id={row.id} />}
        <Facts title={t("console.facts")} type={type} row={row} elsewhere={elsewhere} />
      </div>
      <History type={type} id={row.id} />
    </div>
  );
}
