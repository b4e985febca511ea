import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Check, Clock, HelpCircle, TriangleAlert } from "lucide-react";
import { reasonOf } from "../api/client";
import { admitMachine, dropMachine, machines, promoteMachine, type Machine } from "../api/machines";
import { useOwner } from "../session/mandates";
import { serviceTabs } from "../session/service-tabs";
import { Footer, Modal } from "../ui/modal";
import { Busy, Trouble } from "../ui/notice";
import { PlaceTabs } from "../ui/tabs";
import { Instant } from "../ui/time";
import { useZone } from "../ui/time-field";
import { number, t } from "../words";

/** How often machines are looked at anew, in milliseconds. */
const again = 3_000;

/** MachinesPage shows the machines on which the service runs: from which revision each answers, and when it was last heard of. */
export function MachinesPage() {
  const found = useQuery({ queryKey: ["machines"], queryFn: machines, refetchInterval: again });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  const { list, alone, now } = found.data;
  return (
    <div className="mx-auto max-w-4xl">
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
        <h1>{t("console.machine.title")}</h1>
        <PlaceTabs place="service" tabs={serviceTabs} />
      </div>
      <p className="mb-3 max-w-[80ch] text-soft">{t(alone ? "console.machine.alone" : "console.machine.help")}</p>
      {!alone && (
        <section className="sheet">
          <h2 className="border-b border-line px-4 py-2.5">{summary(list)}</h2>
          <ul className="py-1">
            {list.map((m) => (
              <One key={m.name} machine={m} now={new Date(now)} />
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

/** summary says how far the last revision has come. */
function summary(list: Machine[]) {
  const last = Math.max(...list.map((m) => m.revision ?? 0));
  const have = list.filter((m) => m.state !== "silent" && m.revision === last).length;
  const values = { n: number(have), all: number(list.length), revision: number(last), count: list.length };
  return have === list.length ? t("console.machine.all_have", values) : t("console.machine.some_have", values);
}

const marks = { fine: Check, behind: Clock, unstarted: HelpCircle, unknown: HelpCircle, silent: TriangleAlert, clock: TriangleAlert, other_key: TriangleAlert };

/** standing is how a machine stands, in words. */
function standing({ state, behind = 0, clock_ahead: ahead = 0 }: Machine) {
  if (state === "behind") return t("console.machine.state_behind", { count: behind, n: number(behind) });
  if (state === "clock") return t(ahead > 0 ? "console.machine.state_clock_ahead" : "console.machine.state_clock_behind", { time: lasting(Math.abs(ahead)) });
  return t(`console.machine.state_${state}`);
}

/** lasting writes how long something is, in hours and minutes, or in seconds where it is less. */
function lasting(seconds: number) {
  if (seconds < 90) return t("console.machine.seconds", { n: number(Math.round(seconds)) });
  const minutes = Math.round(seconds / 60);
  const hours = Math.floor(minutes / 60);
  return [hours > 0 && t("console.time.hours", { n: number(hours) }), minutes % 60 > 0 && t("console.time.minutes", { n: minutes % 60 })]
    .filter(Boolean)
    .join(" ");
}

function One({ machine: m, now }: { machine: Machine; now: Date }) {
  const owner = useOwner();
  const zone = useZone({});
  const Mark = marks[m.state];
  const fine = m.state === "fine";
  const writes = m.role === "writer";
  return (
    <li className="border-t border-line/60 px-4 py-2.5 first:border-t-0">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <span className="font-semibold">{m.name}</span>
        <span className={`inline-flex items-center gap-1 self-center ${fine ? "text-holds" : "text-breaks"}`}>
          <Mark size={14} aria-hidden /> {standing(m)}
        </span>
        {writes && <span className="text-soft">{t("console.machine.writes")}</span>}
        {m.role === "standby" && <span className="text-soft">{t("console.machine.stands_by")}</span>}
        {owner && !writes && (
          <span className="ml-auto flex flex-wrap gap-2 print:hidden">
            {(m.state === "unknown" || m.state === "other_key") && <Admit machine={m} />}
            {m.role === "standby" && fine && <Promote machine={m} />}
            <Drop machine={m} />
          </span>
        )}
      </div>
      {m.revision !== undefined && (
        <p className="tabular-nums">
          {t("console.machine.revision", { revision: number(m.revision) })} · {t("console.machine.asked", { n: number(Math.round(m.asked)) })}
          {m.waiting !== undefined && m.waiting > 0 && <> · {t("console.machine.waiting", { count: m.waiting, n: number(m.waiting) })}</>}
        </p>
      )}
      {m.said && !fine && (
        <p className="text-soft">
          {t("console.machine.said")} <Instant at={m.said} zone={zone} from={now} />
        </p>
      )}
      {m.problem && (
        <p className="text-breaks">
          {t("console.machine.problem", { problem: m.problem })} {m.problem_at && <Instant at={m.problem_at} zone={zone} />}
        </p>
      )}
      <p className="text-[0.86rem] break-all text-soft">{[m.url, m.version].filter(Boolean).join(" · ")}</p>
    </li>
  );
}

const keyText = (m: Machine) => m.key ?? "";

function Admit({ machine }: { machine: Machine }) {
  return (
    <Act
      act={() => admitMachine(machine.name, keyText(machine))}
      title={t("console.machine.admit_title", { name: machine.name })}
      button={t("console.machine.admit")}
      label={t("console.machine.admit_of", { name: machine.name })}
    >
      <p>{t(machine.state === "other_key" ? "console.machine.admit_other" : "console.machine.admit_help")}</p>
      <p className="my-2 font-mono text-[0.86rem] break-all" aria-label={t("console.machine.key")}>
        {keyText(machine)}
      </p>
    </Act>
  );
}

function Promote({ machine: { name } }: { machine: Machine }) {
  return (
    <Act
      act={() => promoteMachine(name)}
      title={t("console.machine.promote_title", { name })}
      button={t("console.machine.promote")}
      label={t("console.machine.promote_of", { name })}
    >
      <p>{t("console.machine.promote_help")}</p>
    </Act>
  );
}

function Drop({ machine: { name } }: { machine: Machine }) {
  return (
    <Act
      act={() => dropMachine(name)}
      title={t("console.machine.remove_title", { name })}
      button={t("console.source.remove")}
      label={t("console.machine.remove_of", { name })}
    >
      <p>{t("console.machine.remove_help")}</p>
    </Act>
  );
}

/** Act is a button that does something to a machine, once it was said what. */
function Act({ act, title, button, label, children }: { act: () => Promise<unknown>; title: string; button: string; label: string; children: ReactNode }) {
  const queries = useQueryClient();
  const done = useMutation({ mutationFn: act, onSettled: () => queries.invalidateQueries({ queryKey: ["machines"] }) });
  return (
    <Modal title={title} button={button} label={label}>
      {(close) => (
        <>
          {children}
          <Footer
            close={close}
            go={() => done.mutate(undefined, { onSuccess: close })}
            label={button}
            disabled={done.isPending}
            fault={done.error ? reasonOf(done.error, t("console.edit.not_saved")) : undefined}
          />
        </>
      )}
    </Modal>
  );
}
