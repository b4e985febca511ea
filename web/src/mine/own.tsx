import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { askFor, giveBack, joinGroup, mine, withdraw, type Mine, type Request } from "../api/mine";
import { reasonOf } from "../api/client";
import { serviceNow } from "../session/clock";
import { Choose } from "../ui/choose";
import { TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Busy, Trouble } from "../ui/notice";
import { t, timeFormat } from "../words";
import { spans, spanText } from "./span";

const moment = (text: string) => timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(text));

/** Own is what somebody can do by themselves: give back, join for a time, ask for the rest; and what became of what they asked for. */
export function Own() {
  const found = useQuery({ queryKey: ["mine"], queryFn: mine });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  const { groups, grants, may_join: joinable, requests } = found.data;
  return (
    <section className="sheet mb-5" aria-label={t("console.mine.title")}>
      <h2 className="flex items-center justify-between border-b border-line px-5 py-2.5">
        {t("console.mine.title")}
        <Modal title={t("console.mine.ask_title")} button={t("console.mine.ask")}>
          {(close) => <Ask close={close} />}
        </Modal>
      </h2>
      <div className="grid gap-x-8 gap-y-3 px-5 py-3 lg:grid-cols-2">
        <div>
          <h3 className="text-xs font-medium text-soft">{t("console.mine.have")}</h3>
          <ul>
            {groups.map((g) => (
              <Held
                key={`${g.id} ${g.from ?? ""}`}
                name={g.name}
                note={g.until ? t("console.mine.until", { time: moment(g.until) }) : undefined}
                what={{ group: g.id }}
              />
            ))}
            {grants.map((g) => (
              <Held key={g.id} name={g.name} note={t("console.mine.by_name")} what={{ grant: g.id }} />
            ))}
          </ul>
          {groups.length + grants.length === 0 && <p className="text-soft">{t("console.mine.none")}</p>}
        </div>
        {joinable.length > 0 && (
          <div>
            <h3 className="text-xs font-medium text-soft">{t("console.mine.may_join")}</h3>
            <ul>
              {joinable.map((g) => (
                <Joinable key={g.id} group={g} />
              ))}
            </ul>
          </div>
        )}
        {requests.length > 0 && <Asked list={requests} />}
      </div>
    </section>
  );
}

/** useAct does something of one's own, and has everything read anew. */
function useAct(act: () => Promise<unknown>, close: () => void) {
  const queries = useQueryClient();
  const run = useMutation({
    mutationFn: act,
    onSuccess: async () => {
      close();
      await queries.invalidateQueries();
    },
  });
  return { go: () => run.mutate(), busy: run.isPending, fault: run.error ? reasonOf(run.error, t("console.unreachable")) : undefined };
}

function Held({ name, note, what }: { name: string; note?: string; what: { group?: string; grant?: string } }) {
  const title = t("console.mine.give_back_title", { name });
  return (
    <li className="flex items-center gap-3 border-t border-line/60 py-1">
      <span className="min-w-0 flex-1">
        {name} {note && <span className="text-[0.86rem] text-soft">{note}</span>}
      </span>
      <Modal title={title} button={t("console.mine.give_back")} label={`${t("console.mine.give_back")}: ${name}`} className="button px-2 py-0.5 text-[0.86rem]">
        {(close) => <GiveBack what={what} close={close} />}
      </Modal>
    </li>
  );
}

function GiveBack({ what, close }: { what: { group?: string; grant?: string }; close: () => void }) {
  const [note, setNote] = useState("");
  const { go, busy, fault } = useAct(() => giveBack(what, note.trim() || undefined), close);
  return (
    <>
      <p>{t("console.mine.give_back_help")}</p>
      <TextField label={t("console.reason.label")} value={note} onChange={setNote} />
      <Footer close={close} go={go} label={t("console.mine.give_back")} disabled={busy} fault={fault} />
    </>
  );
}

function Joinable({ group: g }: { group: Mine["may_join"][number] }) {
  return (
    <li className="flex items-center gap-3 border-t border-line/60 py-1">
      <span className="min-w-0 flex-1">
        {g.name} <span className="text-[0.86rem] text-soft">{t(g.approval === "none" ? "console.mine.at_once" : "console.mine.after")}</span>
        {g.note && <span className="block text-[0.86rem] text-soft">{g.note}</span>}
      </span>
      <Modal
        title={t("console.mine.join_title", { name: g.name })}
        button={t("console.mine.join")}
        label={`${t("console.mine.join")}: ${g.name}`}
        className="button px-2 py-0.5 text-[0.86rem]"
      >
        {(close) => <Join group={g} close={close} />}
      </Modal>
    </li>
  );
}

function Join({ group: g, close }: { group: Mine["may_join"][number]; close: () => void }) {
  const possible = spans(g.minutes);
  const [minutes, setMinutes] = useState(possible[Math.min(1, possible.length - 1)]?.value ?? "");
  const [reason, setReason] = useState("");
  const { go, busy, fault } = useAct(() => joinGroup(g.id, Number(minutes), reason), close);
  return (
    <>
      <p>{t(g.approval === "none" ? "console.mine.at_once" : "console.mine.after")}</p>
      <Choose label={t("console.mine.how_long")} value={minutes} options={possible} onChange={setMinutes} />
      <TextField label={t("console.mine.why")} value={reason} onChange={setReason} />
      <Footer close={close} go={go} label={t("console.mine.join")} disabled={busy || !reason.trim()} fault={fault} />
    </>
  );
}

const longest = 30 * 24 * 60;

function Ask({ close }: { close: () => void }) {
  const [right, setRight] = useState("control");
  const [device, setDevice] = useState("");
  const [minutes, setMinutes] = useState("480");
  const [reason, setReason] = useState("");
  const until = () => new Date(serviceNow().getTime() + Number(minutes) * 60_000).toISOString();
  const { go, busy, fault } = useAct(() => askFor(right, device.trim(), until(), reason), close);
  return (
    <>
      <Choose
        label={t("console.mine.what")}
        value={right}
        options={["control", "view"].map((v) => ({ value: v, label: t(`console.mine.${v}`) }))}
        onChange={setRight}
      />
      <TextField label={t("console.mine.device")} value={device} onChange={setDevice} />
      <Choose label={t("console.mine.how_long")} value={minutes} options={spans(longest)} onChange={setMinutes} />
      <TextField label={t("console.mine.why")} value={reason} onChange={setReason} />
      <Footer close={close} go={go} label={t("console.mine.send")} disabled={busy || !reason.trim() || !device.trim()} fault={fault} />
    </>
  );
}

function Asked({ list }: { list: Request[] }) {
  return (
    <div className="lg:col-span-2">
      <h3 className="text-xs font-medium text-soft">{t("console.mine.asked")}</h3>
      <ul>
        {list.map((r) => (
          <li key={r.id} className="flex items-baseline gap-3 border-t border-line/60 py-1">
            <span className="min-w-0 flex-1">
              {r.kind === "join" ? `${r.group?.name ?? ""}, ${spanText(r.minutes ?? 0)}` : `${r.right ?? ""}, ${r.device?.name ?? ""}`}
              <span className="text-[0.86rem] text-soft"> “{r.reason}”</span>
              {r.answer && (
                <span className="block text-[0.86rem]">
                  {r.by?.name}
                  {t("console.colon")}“{r.answer}”
                </span>
              )}
            </span>
            <span className={r.state === "refused" ? "text-breaks" : r.state === "open" ? "text-soft" : ""}>{t(`console.mine.state_${r.state}`)}</span>
            {r.state === "open" && <Withdraw request={r} />}
          </li>
        ))}
      </ul>
    </div>
  );
}

function Withdraw({ request: r }: { request: Request }) {
  const { go, busy } = useAct(
    () => withdraw(r.id),
    () => undefined,
  );
  return (
    <button
      type="button"
      className="button px-2 py-0.5 text-[0.86rem]"
      disabled={busy}
      onClick={go}
      aria-label={`${t("console.mine.withdraw")}: ${r.device?.name ?? r.group?.name ?? ""}`}
    >
      {t("console.mine.withdraw")}
    </button>
  );
}
