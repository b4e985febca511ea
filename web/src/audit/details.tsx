import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { revision, type Entry } from "../api/audit";
import { TakeBack } from "../history/take-back";
import { SomeChanges } from "../impact/changes";
import { useMay } from "../session/mandates";
import { Modal } from "../ui/modal";
import { Busy, Trouble } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { labelOf, t } from "../words";
import { via } from "./entries";

/** Details are all that an entry says; of a change, what was before and after, and the way back. */
export function Details({ entry: e }: { entry: Entry }) {
  const said = new Map(Object.entries((e.more ?? {}) as Record<string, unknown>));
  const plain = [...said].filter(([name, v]) => name !== "note" && name !== "chain" && typeof v !== "object");
  return (
    <dl className="grid grid-cols-[11rem_1fr] gap-x-3 gap-y-1 border-l-2 border-line pl-3 text-[0.93rem]">
      <Fact name={t("console.record.entry", { n: e.entry })}>{t(`console.record.kind_${e.kind}`)}</Fact>
      <Fact name={t("console.record.via")}>{via(e.via)}</Fact>
      {e.token && (
        <Fact name={t("console.record.token")}>
          {e.token.by ? t("console.record.token_by", { name: e.token.name ?? e.token.id, by: e.token.by }) : (e.token.name ?? e.token.id)}
        </Fact>
      )}
      {e.user && (
        <Fact name={t("console.type.users")}>
          <RecordLink type="users" id={e.user.id} name={e.user.name} />
        </Fact>
      )}
      {e.device && (
        <Fact name={t("console.type.devices")}>
          <RecordLink type="devices" id={e.device.id} name={e.device.name} />
          {e.point && ` / ${e.point}`}
        </Fact>
      )}
      {typeof said.get("route") === "string" && <Fact name={t("console.record.route")}>{String(said.get("route"))}</Fact>}
      {typeof said.get("note") === "string" && <Fact name={t("console.record.reason")}>“{String(said.get("note"))}”</Fact>}
      {(e.kind === "decision" || e.kind === "question") && plain.length > 0 && (
        <Fact name={t("console.record.circumstances")}>
          {plain
            .map(([name, v]) => `${labelOf(name) ?? name}${t("console.colon")}${typeof v === "boolean" ? t(`console.value.${v ? "on" : "off"}`) : String(v)}`)
            .join(", ")}
        </Fact>
      )}
      {e.revision !== undefined && e.revision > 0 && <Fact name={t("console.record.revision")}>{e.revision}</Fact>}
      {e.kind === "change" && e.revision !== undefined && <Change revision={e.revision} />}
      <Fact name={t("console.record.chain")}>
        <code className="text-xs break-all text-soft">{e.chain}</code>
      </Fact>
    </dl>
  );
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  if (children === "") return null;
  return (
    <>
      <dt className="text-soft">{name}</dt>
      <dd>{children}</dd>
    </>
  );
}

/** Change is what a revision did, and the button that takes it back. */
function Change({ revision: n }: { revision: number }) {
  const found = useQuery({ queryKey: ["revision", n], queryFn: () => revision(n), staleTime: Infinity });
  const may = useMay("settings", "settings");
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <Fact name={t("console.record.changed")}>
      <SomeChanges changes={found.data.changes} all={found.data.all} none={t("console.record.no_change")} />
      {may.edit && (
        <Modal
          title={t("console.record.undo_title", { revision: n })}
          button={t("console.record.undo")}
          className="button mt-2 px-2 py-0.5 text-[0.86rem] print:hidden"
        >
          {(close) => <TakeBack revisions={[n]} close={close} />}
        </Modal>
      )}
    </Fact>
  );
}
