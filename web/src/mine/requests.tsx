import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answerRequest, requests, type Request } from "../api/mine";
import { reasonOf } from "../api/client";
import type { Edit } from "../api/edits";
import { advice } from "../api/reach";
import { Effect } from "../impact/effect";
import { ImpactView } from "../impact/impact";
import { serviceNow } from "../session/clock";
import { useMakes } from "../session/mandates";
import { Section, listLook } from "../today/section";
import { Modal } from "../ui/modal";
import { Busy, Fault, Trouble } from "../ui/notice";
import { TextField } from "../ui/fields";
import { distance } from "../ui/time";
import { t, timeFormat } from "../words";
import { spanText } from "./span";

const moment = (text: string) => timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(text));

/** text says what is asked for. */
const text = (r: Request) =>
  r.kind === "join"
    ? t(r.state === "joined" ? "console.request.joined" : "console.request.join", {
        user: r.user.name,
        group: r.group?.name ?? "",
        time: spanText(r.minutes ?? 0),
      })
    : t("console.request.access", { user: r.user.name, right: r.right ?? "", device: r.device?.name ?? "", time: r.until ? moment(r.until) : "" });

/** Requests are those that one may answer, and what was joined of late by those whose group one looks after; none where there are none. */
export function Requests() {
  const makes = useMakes();
  return makes("grants") || makes("users") ? <Known /> : null;
}

function Known() {
  const now = serviceNow();
  const found = useQuery({ queryKey: ["requests"], queryFn: requests });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data || found.data.length === 0) return null;
  return (
    <Section title={t("console.request.title")} count={found.data.filter((r) => r.state === "open").length}>
      <ul className={listLook}>
        {found.data.map((r) => (
          <li key={r.id} className="flex items-baseline gap-3">
            <span className="min-w-0 flex-1">
              {text(r)} <span className="text-[0.86rem] text-soft">“{r.reason}”</span>
            </span>
            <span className="text-[0.86rem] text-soft tabular-nums">{distance(r.created, now)}</span>
            {r.state === "open" && (
              <Modal
                title={text(r)}
                button={t("console.request.answer")}
                label={t("console.request.answer_to", { user: r.user.name })}
                className="button px-2 py-0.5 text-[0.86rem]"
              >
                {(close) => (r.kind === "join" ? <AnswerJoin request={r} close={close} /> : <AnswerAccess request={r} close={close} />)}
              </Modal>
            )}
          </li>
        ))}
      </ul>
    </Section>
  );
}

function useAnswer(request: Request, close: () => void) {
  const queries = useQueryClient();
  const [note, setNote] = useState("");
  const run = useMutation({
    mutationFn: ({ agree, edits }: { agree: boolean; edits?: Edit[] }) => answerRequest(request.id, agree, edits, note.trim() || undefined),
    onSuccess: async () => {
      close();
      await queries.invalidateQueries();
    },
  });
  return {
    field: <TextField label={t("console.request.note", { user: request.user.name })} value={note} onChange={setNote} />,
    answer: run.mutate,
    busy: run.isPending,
    fault: run.error ? reasonOf(run.error, t("console.unreachable")) : undefined,
  };
}

/** AnswerJoin shows what joining would change, and agrees or says no. */
function AnswerJoin({ request: r, close }: { request: Request; close: () => void }) {
  const { field, answer, busy, fault } = useAnswer(r, close);
  const [until] = useState(() => new Date(serviceNow().getTime() + (r.minutes ?? 0) * 60_000).toISOString());
  const edits: Edit[] = [{ op: "add", type: "user_groups", id: r.group?.id ?? "", list: "members", value: r.user.id, until, beside: true }];
  return (
    <>
      <p>“{r.reason}”</p>
      <Effect edits={edits} />
      {field}
      <Fault text={fault} />
      <Answers refuse={() => answer({ agree: false })} agree={() => answer({ agree: true })} busy={busy} />
    </>
  );
}

/** AnswerAccess shows what would grant a right, each with what else it changes, and makes one of them or says no. */
function AnswerAccess({ request: r, close }: { request: Request; close: () => void }) {
  const { field, answer, busy, fault } = useAnswer(r, close);
  const known = Boolean(r.device?.id);
  const question = { user: r.user.id, right: r.right ?? "", device: r.device?.id ?? "", until: r.until ?? undefined };
  const found = useQuery({ queryKey: ["advice", question], queryFn: () => advice(question), staleTime: 0, enabled: known, retry: false });
  return (
    <>
      <p>“{r.reason}”</p>
      {!known && <p className="text-breaks">{t("console.request.unknown")}</p>}
      {found.error && <Trouble error={found.error} />}
      {known && !found.data && !found.error && <Busy />}
      {found.data?.allowed && <p>{t("console.request.has")}</p>}
      {found.data && !found.data.allowed && (
        <>
          <p className="text-soft">{found.data.items.length > 0 ? t("console.request.choose") : t("console.advice.none")}</p>
          <ol className="flex flex-col divide-y divide-line/60">
            {found.data.items.map((item, i) => (
              <li key={i} className="flex flex-wrap items-start gap-3 py-2">
                <div className="min-w-0 flex-1">
                  <p>{item.text}</p>
                  <details className="mt-1">
                    <summary className="cursor-pointer text-soft">{t("console.advice.effect")}</summary>
                    <ImpactView impact={item.impact} />
                  </details>
                </div>
                <button type="button" className="button" disabled={busy} onClick={() => answer({ agree: true, edits: item.edits as Edit[] })}>
                  {t("console.request.agree")}
                </button>
              </li>
            ))}
          </ol>
        </>
      )}
      {field}
      <Fault text={fault} />
      <Answers refuse={() => answer({ agree: false })} busy={busy} />
    </>
  );
}

function Answers({ refuse, agree, busy }: { refuse: () => void; agree?: () => void; busy: boolean }) {
  return (
    <div className="sticky bottom-0 -mx-6 flex justify-end gap-2 border-t border-line bg-sheet px-6 py-3">
      <button type="button" className="button" disabled={busy} onClick={refuse}>
        {t("console.request.refuse")}
      </button>
      {agree && (
        <button type="button" className="button primary" disabled={busy} onClick={agree}>
          {t("console.request.agree")}
        </button>
      )}
    </div>
  );
}
