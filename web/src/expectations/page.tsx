import type { Expectation } from "../api/records";
import { UnmetList } from "../impact/unmet";
import { Rest } from "../records/rest";
import { Busy } from "../ui/notice";
import { Sign } from "../ui/trail";
import { t } from "../words";
import { useProof } from "./list";
import { Saying } from "./sentence";

/** An expectation: what it says, and whether it holds. */
export function ExpectationPage({ row }: { row: Expectation }) {
  const proof = useProof();
  const unmet = proof.data?.unmet.filter((u) => u.id === row.id) ?? [];
  return (
    <>
      <section className="sheet p-4">
        <p className="text-lg">
          <Saying row={row} />
        </p>
        <div className="mt-3">
          {!proof.data && <Busy />}
          {proof.data && unmet.length === 0 && (
            <p className="flex items-center gap-2 font-medium">
              <Sign state="holds" size={20} /> {t("console.expect.holds_400")}
            </p>
          )}
          <UnmetList unmet={unmet} title={t("console.expect.not_held", { count: 1 })} />
        </div>
      </section>
      <Rest type="expectations" row={row} elsewhere={["who", "except", "rights", "on", "depth", "when", "expect", "at_least"]} mentioned={false} />
    </>
  );
}
