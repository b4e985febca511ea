import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { reasonOf } from "../api/client";
import { newDraft } from "../api/drafts";
import { dismiss, findings, reopen, type Finding } from "../api/upkeep";
import { useMakes, useOwner } from "../session/mandates";
import { useFilters } from "../ui/address";
import { CheckBox, TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Busy, Fault, Trouble } from "../ui/notice";
import { useSettled } from "../ui/reading";
import { RecordLink } from "../ui/record-link";
import { PlaceTabs } from "../ui/tabs";
import { Instant } from "../ui/time";
import { TimeField, useZone } from "../ui/time-field";
import { number, t } from "../words";
import { upkeepTabs } from "./tabs";

/** Upkeep: what may not be meant as it is, each with why it matters, and the change that mends it. */
export function UpkeepPage() {
  const { get, set } = useFilters();
  const [dismissed, setDismissed] = useState(false);
  const found = useQuery({ queryKey: ["findings", dismissed], queryFn: () => findings(dismissed) });
  const asked = get("kind");
  const kinds = [...new Set(found.data?.items.map((f) => f.kind))];
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
        <h1>{t("console.place.upkeep")}</h1>
        <PlaceTabs place="upkeep" tabs={upkeepTabs} />
      </div>
      <p className="mb-2 max-w-[80ch] text-soft">{t("console.upkeep.help")}</p>
      <div className="mb-3">
        <CheckBox label={t("console.upkeep.dismissed")} checked={dismissed} onChange={setDismissed} />
      </div>
      {found.error && <Trouble error={found.error} />}
      {found.isPending && <Busy />}
      {found.data && kinds.length === 0 && <p className="text-soft">{t(dismissed ? "console.upkeep.none_dismissed" : "console.upkeep.none")}</p>}
      <div className="flex flex-col gap-3">
        {kinds.map((kind) => (
          <Kind
            key={kind}
            kind={kind}
            list={found.data?.items.filter((f) => f.kind === kind) ?? []}
            all={dismissed ? 0 : (found.data?.counts[kind] ?? 0)}
            open={asked === kind}
            onOpen={(on) => set("kind")(on ? kind : undefined)}
          />
        ))}
      </div>
    </>
  );
}

const shownAtOnce = 50;

function Kind({ kind, list, all, open, onOpen }: { kind: string; list: Finding[]; all: number; open: boolean; onOpen: (on: boolean) => void }) {
  const rest = Math.max(all, list.length) - Math.min(list.length, shownAtOnce);
  return (
    <details className="sheet" open={open} onToggle={(e) => e.currentTarget.open !== open && onOpen(e.currentTarget.open)}>
      <summary className="flex cursor-pointer items-baseline gap-3 px-4 py-2.5">
        <span className="font-semibold">{t(`upkeep.kind.${kind}`)}</span>
        <span className="tabular-nums">{number(Math.max(all, list.length))}</span>
        <span className="min-w-0 text-soft">{list[0]?.why}</span>
      </summary>
      <ul>
        {list.slice(0, shownAtOnce).map((f) => (
          <Row key={f.key} finding={f} />
        ))}
      </ul>
      {rest > 0 && <p className="border-t border-line/60 px-4 py-2 text-soft">{t("console.upkeep.more", { n: number(rest) })}</p>}
    </details>
  );
}

/** Row is one finding, with the ways to end it. */
function Row({ finding }: { finding: Finding }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const makes = useMakes();
  const zone = useZone({});
  const owner = useOwner();
  const act = useMutation({ mutationFn: (what: () => Promise<unknown>) => what(), onSuccess: () => queries.invalidateQueries() });
  const mend = (m: Finding["mends"][number]) =>
    act.mutate(() => newDraft(m.text, finding.text, m.edits).then((d) => navigate(`/drafts/${encodeURIComponent(d.id)}`)));
  const closed = finding.dismissed;
  return (
    <li className="flex flex-wrap items-start gap-x-4 gap-y-1 border-t border-line/60 px-4 py-2" data-finding={finding.key}>
      <div className="min-w-0 flex-1 basis-96">
        <p>{finding.text}</p>
        <p className="text-[0.86rem]">
          {finding.records.map((r, i) => (
            <span key={`${r.type}/${r.id}`}>
              {i > 0 && " · "}
              <RecordLink type={r.type} id={r.id} name={r.name} />
            </span>
          ))}
        </p>
        {closed && (
          <p className="text-[0.86rem] text-soft">
            {t("console.upkeep.closed", { by: closed.by.name, reason: closed.reason })} <Instant at={closed.until} zone={zone} />
          </p>
        )}
        <Fault text={act.error ? reasonOf(act.error, t("console.edit.not_saved")) : undefined} />
      </div>
      <div className="flex flex-wrap gap-2 print:hidden">
        {makes("grants") &&
          !closed &&
          finding.mends.map((m) => (
            <button key={m.text} type="button" className="button" disabled={act.isPending} title={t("console.upkeep.look_at")} onClick={() => mend(m)}>
              {m.text}…
            </button>
          ))}
        {owner && closed && (
          <button type="button" className="button" disabled={act.isPending} onClick={() => act.mutate(() => reopen(finding.key))}>
            {t("console.upkeep.reopen")}
          </button>
        )}
        {owner && !closed && (
          <Modal title={t("console.upkeep.dismiss_title")} button={t("console.upkeep.dismiss")}>
            {(close) => <Dismissing finding={finding} close={close} />}
          </Modal>
        )}
      </div>
    </li>
  );
}

function Dismissing({ finding, close }: { finding: Finding; close: () => void }) {
  const queries = useQueryClient();
  const settled = useSettled();
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState<string>();
  const save = useMutation({
    mutationFn: async () => ((await settled()) ? dismiss({ key: finding.key, reason, until: until ?? "" }) : undefined),
    onSuccess: async () => {
      close();
      await queries.invalidateQueries();
    },
  });
  return (
    <>
      <p>{finding.text}</p>
      <TextField label={t("console.reason.label")} value={reason} onChange={setReason} />
      <TimeField label={t("console.upkeep.until")} value={until} onChange={setUntil} />
      <Footer
        close={close}
        go={() => save.mutate()}
        label={t("console.upkeep.dismiss_title")}
        disabled={save.isPending || !reason.trim() || !until}
        fault={save.error ? reasonOf(save.error, t("console.edit.not_saved")) : undefined}
      />
    </>
  );
}
