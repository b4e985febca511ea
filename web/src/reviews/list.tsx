import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { reasonOf } from "../api/client";
import { newReview, reviews, type ReviewHead } from "../api/reviews";
import { useOwner } from "../session/mandates";
import { Choose } from "../ui/choose";
import { ManyBox } from "../ui/combobox";
import { CheckBox, TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Busy, Trouble } from "../ui/notice";
import { useSettled } from "../ui/reading";
import { PlaceTabs } from "../ui/tabs";
import { Instant } from "../ui/time";
import { TimeField, useZone } from "../ui/time-field";
import { upkeepTabs } from "../upkeep/tabs";
import { number, t } from "../words";

/** Reviews: rounds in which those responsible confirm what people hold, or take it away. */
export function ReviewListPage() {
  const [all, setAll] = useState(false);
  const zone = useZone({});
  const found = useQuery({ queryKey: ["reviews", all], queryFn: () => reviews(all) });
  const owner = useOwner();
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
        <h1>{t("console.place.upkeep")}</h1>
        <PlaceTabs place="upkeep" tabs={upkeepTabs} />
        {owner && (
          <span className="ml-auto print:hidden">
            <Modal title={t("console.review.new")} button={t("console.review.new")} className="button primary">
              {(close) => <NewReview close={close} />}
            </Modal>
          </span>
        )}
      </div>
      <p className="mb-3 max-w-[80ch] text-soft">{t("console.review.help")}</p>
      <div className="mb-2">
        <CheckBox label={t("console.review.all")} checked={all} onChange={setAll} />
      </div>
      {found.error && <Trouble error={found.error} />}
      {found.isPending && <Busy />}
      {found.data?.length === 0 && <p className="text-soft">{t("console.review.none")}</p>}
      <ul className="flex flex-col gap-2">
        {found.data?.map((r) => (
          <li key={r.id} className="sheet flex flex-wrap items-baseline gap-x-4 gap-y-1 px-4 py-2.5">
            <Link className="link font-semibold" to={`/reviews/${encodeURIComponent(r.id)}`}>
              {r.name}
            </Link>
            <span>{t(`console.review.state_${r.state}`)}</span>
            <span className="tabular-nums">
              <Progress of={r} />
            </span>
            {r.mine > 0 && <span className="font-medium">{t("console.review.mine", { count: r.mine })}</span>}
            <span className="ml-auto text-soft">
              {t(r.ended ? "console.review.ended_at" : "console.review.due_at")} <Instant at={r.ended ?? r.due} zone={zone} />
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}

/** Progress says how far a review has come. */
export function Progress({ of }: { of: Pick<ReviewHead, "counts"> }) {
  return <>{t("console.review.answered", { done: number(of.counts.total - of.counts.waiting), all: number(of.counts.total) })}</>;
}

type Scope = "groups" | "sites" | "everything";

function NewReview({ close }: { close: () => void }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const settled = useSettled();
  const [name, setName] = useState("");
  const [reason, setReason] = useState("");
  const [scope, setScope] = useState<Scope>("groups");
  const [groups, setGroups] = useState<string[]>([]);
  const [sites, setSites] = useState<string[]>([]);
  const [due, setDue] = useState<string>();
  const [unanswered, setUnanswered] = useState<ReviewHead["unanswered"]>("told");
  const make = useMutation({
    mutationFn: async () =>
      (await settled())
        ? newReview({
            name,
            reason,
            due: due ?? "",
            unanswered,
            groups: scope === "groups" ? groups : undefined,
            sites: scope === "sites" ? sites : undefined,
            everything: scope === "everything",
          })
        : undefined,
    onSuccess: async (review) => {
      if (!review) return;
      await queries.invalidateQueries({ queryKey: ["reviews"] });
      close();
      void navigate(`/reviews/${encodeURIComponent(review.id)}`);
    },
  });
  const chosen = scope === "everything" || (scope === "groups" ? groups : sites).length > 0;
  return (
    <>
      <TextField label={t("console.review.name")} value={name} onChange={setName} />
      <Choose
        label={t("console.review.scope")}
        value={scope}
        options={(["groups", "sites", "everything"] as const).map((s) => ({ value: s, label: t(`console.review.scope_${s}`) }))}
        onChange={(s) => setScope(s as Scope)}
      />
      {scope === "groups" && <ManyBox label={t("console.review.groups")} type="user_groups" value={groups} onChange={setGroups} />}
      {scope === "sites" && <ManyBox label={t("console.review.sites")} type="sites" value={sites} onChange={setSites} />}
      <TimeField label={t("console.review.due")} value={due} onChange={setDue} />
      <Choose
        label={t("console.review.unanswered")}
        value={unanswered}
        options={(["told", "suspended", "taken"] as const).map((u) => ({ value: u, label: t(`console.review.un_${u}`) }))}
        onChange={(u) => setUnanswered(u as ReviewHead["unanswered"])}
      />
      <TextField label={t("console.review.reason")} value={reason} onChange={setReason} />
      <Footer
        close={close}
        go={() => make.mutate()}
        label={t("console.review.begin")}
        disabled={make.isPending || !name.trim() || !due || !chosen}
        fault={make.error ? reasonOf(make.error, t("console.edit.not_saved")) : undefined}
      />
    </>
  );
}
