import type { Expectation } from "../api/records";
import { GivenTo, On, When } from "../grants/lines";
import { RecordLinks } from "../ui/record-link";
import { t } from "../words";

/** Saying is what an expectation says, as it is read: who, never or always, which rights, on what, when. */
export function Saying({ row, most }: { row: Expectation; most?: number }) {
  const line = { on: row.on, depth: row.depth, when: row.when };
  return (
    <>
      {row.expect === "someone" && <>{t("console.expect.least", { count: row.at_least ?? 1 })} </>}
      <GivenTo to={row.who} />
      {Boolean(row.except?.groups?.length || row.except?.users?.length) && (
        <>
          {" "}
          ({t("console.expect.except")} <GivenTo to={row.except} />)
        </>
      )}{" "}
      <strong>{t(`console.expect.${row.expect === "never" ? "never" : "always"}_short`)}</strong>{" "}
      <RecordLinks type="rights" ids={row.rights ?? []} /> {t("console.expect.on")} <On line={line} most={most} />
      {Boolean(row.when?.length) && (
        <>
          , <When line={line} most={most} />
        </>
      )}
    </>
  );
}
