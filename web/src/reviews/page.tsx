import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Check as Tick, Clock, MinusCircle, Printer } from "lucide-react";
import { useState, type ReactNode } from "react";
import { useParams } from "react-router";
import { reasonOf } from "../api/client";
import { answerReview, getReview, stopReview, type Review, type ReviewAnswer, type ReviewItem, type Term } from "../api/reviews";
import { ImpactView } from "../impact/impact";
import { CopyLink } from "../ui/copy-link";
import { CheckBox, TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Busy, Fault, Trouble } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { Instant } from "../ui/time";
import { useZone } from "../ui/time-field";
import { t } from "../words";
import { Progress } from "./list";

/** A review: who holds what, what it gives, who answers, and what was answered. Printed, it is the report. */
export function ReviewPage() {
  const { id = "" } = useParams();
  const found = useQuery({ queryKey: ["review", id], queryFn: () => getReview(id), retry: false });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return <Shown review={found.data} />;
}

function useAct() {
  const queries = useQueryClient();
  return useMutation({ mutationFn: (act: () => Promise<unknown>) => act(), onSettled: () => queries.invalidateQueries() });
}

function Shown({ review }: { review: Review }) {
  const act = useAct();
  const zone = useZone({});
  const [mine, setMine] = useState(false);
  const [open, setOpen] = useState(false);
  const shown = review.items.filter((i) => (!open || i.answer === "waiting") && (!mine || (i.may && i.answer === "waiting")));
  const held = [...new Set(shown.map((i) => `${i.type}/${i.record.id}`))];
  return (
    <div className="mx-auto max-w-6xl">
      <div className="mb-3 flex flex-wrap items-start gap-3">
        <div className="mr-auto min-w-0">
          <p className="text-xs tracking-wide text-soft uppercase">{t("console.review.title")}</p>
          <h1>{review.name}</h1>
          <p>
            {t(`console.review.state_${review.state}`)} · <Progress of={review} /> · {t(review.ended ? "console.review.ended_at" : "console.review.due_at")}{" "}
            <Instant at={review.ended ?? review.due} zone={zone} /> · {t("console.review.by", { name: review.author.name })}
          </p>
          <p className="text-soft">
            <ScopeText review={review} /> {t(`console.review.then_${review.unanswered}`)}
          </p>
          {review.reason && <p>{review.reason}</p>}
          {review.problem && <Fault text={review.problem} />}
        </div>
        <CopyLink link={() => location.href} />
        <button type="button" className="button print:hidden" onClick={() => window.print()}>
          <Printer size={15} aria-hidden /> {t("console.review.print")}
        </button>
        {review.may_stop && (
          <Modal title={t("console.review.stop_title", { name: review.name })} button={t("console.review.stop")}>
            {(close) => (
              <>
                <p>{t("console.review.stop_help")}</p>
                <Footer
                  close={close}
                  go={() => act.mutate(() => stopReview(review.id).then(close))}
                  label={t("console.review.stop")}
                  disabled={act.isPending}
                  fault={act.error ? reasonOf(act.error, t("console.edit.not_saved")) : undefined}
                />
              </>
            )}
          </Modal>
        )}
      </div>
      <Parts review={review} />
      {review.state === "open" && (
        <div className="mb-3 flex flex-wrap gap-x-6 gap-y-1 print:hidden">
          {review.mine > 0 && <CheckBox label={t("console.review.show_mine")} checked={mine} onChange={setMine} />}
          <CheckBox label={t("console.review.show_open")} checked={open} onChange={setOpen} />
        </div>
      )}
      <Fault text={act.error ? reasonOf(act.error, t("console.edit.not_saved")) : undefined} />
      {shown.length === 0 && <p className="text-soft">{t("console.review.nothing_shown")}</p>}
      <div className="flex flex-col gap-3">
        {held.map((key) => (
          <Held
            key={key}
            review={review}
            items={shown.filter((i) => `${i.type}/${i.record.id}` === key)}
            act={(answers) => act.mutate(() => answerReview(review.id, answers))}
            busy={act.isPending}
          />
        ))}
      </div>
    </div>
  );
}

function ScopeText({ review }: { review: Review }) {
  const { groups, sites, everything } = review.scope;
  const what = everything ? t("console.review.everything_was") : [...groups, ...sites].map((n) => n.name).join(", ");
  return <>{t("console.review.scope_was", { what })}</>;
}

/** Parts says who answers how much, and how far they have come. */
function Parts({ review }: { review: Review }) {
  return (
    <div className="sheet mb-3">
      <table className="w-full">
        <thead>
          <tr className="text-xs text-soft">
            {["part", "people", "progress"].map((h) => (
              <th key={h} scope="col" className="px-4 py-1.5">
                {t(`console.review.${h === "progress" ? "answer" : h}`)}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {review.parts.map((p) => (
            <tr key={p.mandate?.id ?? ""} className="border-t border-line/60">
              <td className="px-4 py-1.5">{p.mandate ? <RecordLink type="mandates" id={p.mandate.id} name={p.mandate.name} /> : t("console.review.owners")}</td>
              <td className="px-4 py-1.5">{p.people.map((n) => n.name).join(", ")}</td>
              <td className="px-4 py-1.5 tabular-nums">
                <Progress of={p} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

type Answering = { review: Review; items: ReviewItem[]; act: (answers: ReviewAnswer[]) => void; busy: boolean };

const answerTo = (i: ReviewItem, answer: ReviewAnswer["answer"], note?: string): ReviewAnswer => ({
  user: i.user.id,
  type: i.type,
  record: i.record.id,
  answer,
  note,
});

/** Held is one thing that people hold, and who holds it. */
function Held({ review, items, act, busy }: Answering) {
  const first = items[0];
  if (!first) return null;
  const waiting = items.filter((i) => i.may && i.answer === "waiting");
  const name = <RecordLink type={first.type} id={first.record.id} name={first.record.name} />;
  return (
    <section className="sheet break-inside-avoid">
      <div className="flex flex-wrap items-baseline gap-3 px-4 py-2">
        <h2 className="text-base">{name}</h2>
        <span className="text-soft">{first.gives}</span>
        {waiting.length > 1 && (
          <button type="button" className="button ml-auto print:hidden" disabled={busy} onClick={() => act(waiting.map((i) => answerTo(i, "kept")))}>
            {t("console.review.keep_all")} ({waiting.length})
          </button>
        )}
      </div>
      <table className="w-full table-fixed">
        <colgroup>
          <col className="w-[36%]" />
          <col className="w-[30%]" />
          <col />
          <col className="w-[14rem]" />
        </colgroup>
        <thead className="sr-only">
          <tr>
            <th scope="col">{t("console.review.who")}</th>
            <th scope="col">{t("console.review.answer")}</th>
            <th scope="col">{t("console.review.note")}</th>
            <th scope="col" />
          </tr>
        </thead>
        <tbody>
          {items.map((i) => (
            <Row key={i.user.id} review={review} item={i} act={act} busy={busy} />
          ))}
        </tbody>
      </table>
    </section>
  );
}

const marks: Record<string, ReactNode> = {
  kept: <Tick size={14} aria-hidden />,
  waiting: <Clock size={14} aria-hidden />,
  taken: <MinusCircle size={14} aria-hidden />,
  suspended: <MinusCircle size={14} aria-hidden />,
};

function TermOf({ term }: { term: Term }) {
  const zone = useZone({});
  if (!term.from && !term.until) return null;
  return (
    <span className="block text-soft">
      {term.from && (
        <>
          {t("console.review.from")} <Instant at={term.from} zone={zone} />{" "}
        </>
      )}
      {term.until && (
        <>
          {t("console.review.until")} <Instant at={term.until} zone={zone} />
        </>
      )}
    </span>
  );
}

function Row({ review, item, act, busy }: { review: Review; item: ReviewItem; act: Answering["act"]; busy: boolean }) {
  const zone = useZone({});
  return (
    <tr className="border-t border-line/60" data-item={`${item.user.id} ${item.record.id}`}>
      <td className="px-4 py-1.5">
        <RecordLink type="users" id={item.user.id} name={item.user.name} />
        {item.status === "suspended" && <span className="text-soft"> · {t("console.review.suspended_user")}</span>}
        {(item.terms ?? [{ until: item.until }]).map((term: Term) => (
          <TermOf key={`${term.from} ${term.until}`} term={term} />
        ))}
      </td>
      <td className="px-4 py-1.5">
        <span className={`inline-flex items-center gap-1.5 ${item.answer === "kept" ? "text-holds" : item.answer === "waiting" ? "" : "text-closes"}`}>
          {marks[item.answer]} {t(`console.review.is_${item.answer}`)}
        </span>
        {item.at && (
          <span className="text-soft">
            {" "}
            · {item.by?.name ?? t("console.review.by_itself")}, <Instant at={item.at} zone={zone} />
          </span>
        )}
      </td>
      <td className="px-4 py-1.5 text-soft">{item.note}</td>
      <td className="px-4 py-1.5 text-right whitespace-nowrap print:hidden">
        {item.may && item.answer === "waiting" && (
          <button
            type="button"
            className="button mr-2"
            disabled={busy}
            onClick={() => act([answerTo(item, "kept")])}
            aria-label={`${t("console.review.keep")}: ${item.user.name}`}
          >
            {t("console.review.keep")}
          </button>
        )}
        {item.may && (
          <Modal
            title={t("console.review.take_title", { name: item.user.name })}
            button={`${t("console.review.take")}…`}
            label={`${t("console.review.take")}: ${item.user.name}`}
          >
            {(close) => <Taking review={review} item={item} close={close} />}
          </Modal>
        )}
      </td>
    </tr>
  );
}

/** Taking shows what somebody would lose before it is taken away. */
function Taking({ review, item, close }: { review: Review; item: ReviewItem; close: () => void }) {
  const queries = useQueryClient();
  const [note, setNote] = useState("");
  const would = useQuery({
    queryKey: ["review-would", review.id, item.user.id, item.record.id, review.at],
    queryFn: () => answerReview(review.id, [answerTo(item, "taken")], true),
    retry: false,
  });
  const take = useMutation({
    mutationFn: () => answerReview(review.id, [answerTo(item, "taken", note)]),
    onSuccess: close,
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <>
      <p>{t("console.review.take_help", { name: item.user.name, what: item.record.name })}</p>
      {would.isPending && <Busy />}
      {would.error && <Fault text={reasonOf(would.error, t("console.edit.not_saved"))} />}
      {would.data?.saved?.impact && <ImpactView impact={would.data.saved.impact} />}
      <TextField label={t("console.review.note")} value={note} onChange={setNote} />
      <Footer
        close={close}
        go={() => take.mutate()}
        label={t("console.review.take")}
        disabled={take.isPending || !would.data}
        fault={take.error ? reasonOf(take.error, t("console.edit.not_saved")) : undefined}
      />
    </>
  );
}
