import { useQuery } from "@tanstack/react-query";
import { prove } from "../api/edits";
import { UnmetList } from "../impact/unmet";
import { useWhole } from "../session/mandates";
import { nameColumn } from "../ui/columns";
import { Sign } from "../ui/trail";
import { RecordTable, type Column } from "../ui/table";
import { PlaceHead } from "../ui/tabs";
import { t } from "../words";
import { Saying } from "./sentence";
import { upkeepTabs } from "../upkeep/tabs";

/** useProof tells which expectations of the policy do not hold. */
export function useProof() {
  const whole = useWhole();
  return useQuery({ queryKey: ["proof"], queryFn: prove, enabled: whole, staleTime: 30_000 });
}

function Holds({ id }: { id: string }) {
  const proof = useProof();
  if (!proof.data) return null;
  const unmet = proof.data.unmet.some((u) => u.id === id);
  return (
    <span className="inline-flex items-center gap-2">
      <Sign state={unmet ? "closes" : "holds"} size={16} /> {t(unmet ? "console.expect.unmet" : "console.expect.held")}
    </span>
  );
}

const columns: Column<"expectations">[] = [
  nameColumn("expectations", "34%"),
  { key: "says", width: "46%", unsorted: true, cell: (r) => <Saying row={r} most={1} /> },
  { key: "holds", width: "20%", unsorted: true, cell: (r) => <Holds id={r.id} /> },
];

/** The expectations of the policy, each with whether it holds over the 400 days to come. */
export function ExpectationListPage() {
  const proof = useProof();
  return (
    <>
      <PlaceHead place="upkeep" type="expectations" tabs={upkeepTabs} />
      <p className="mb-3 max-w-[80ch] text-soft">{t("console.expect.help")}</p>
      <UnmetList unmet={proof.data?.unmet} title={t("console.expect.not_held", { count: proof.data?.unmet.length ?? 0 })} />
      <RecordTable type="expectations" columns={columns} />
    </>
  );
}
