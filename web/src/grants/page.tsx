import type { Grant } from "../api/records";
import { Rest } from "../records/rest";
import { Uses } from "../reach/uses";
import { t } from "../words";
import { Sentence } from "./lines";

export function GrantPage({ row }: { row: Grant }) {
  return (
    <>
      <section className="sheet">
        <h2 className="border-b border-line px-4 py-2.5">{t("console.lines")}</h2>
        <ol>
          {row.lines?.map((line, i) => (
            <li key={i} className="border-b border-line/60 px-4 py-2.5 last:border-0">
              <span className="mr-3 text-xs text-soft tabular-nums">{t("console.edit.line", { n: i + 1 })}</span>
              <Sentence line={line} />
            </li>
          ))}
        </ol>
        {!row.lines?.length && <p className="px-4 py-3 text-breaks">{t("console.grant.no_lines")}</p>}
      </section>
      <Uses type="grants" id={row.id} />
      <Rest type="grants" row={row} elsewhere={["lines"]} mentioned={false} />
    </>
  );
}
