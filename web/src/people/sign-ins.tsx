import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { endSessionsOf, reasonOf, resetFactors, revokeToken, signIns } from "../api/client";
import { useMay, useWhole } from "../session/mandates";
import { Footer, Modal } from "../ui/modal";
import { Busy, Fault, Trouble } from "../ui/notice";
import { t, timeFormat } from "../words";
import { MakeToken, RotateToken } from "./token";

const moment = (text: string) => timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(text));

/** SignIns is how somebody comes in: with what, and where they are signed in now, each to be ended. */
export function SignIns({ user }: { user: string }) {
  const whole = useWhole();
  return whole ? <Known user={user} /> : null;
}

function Known({ user }: { user: string }) {
  const queries = useQueryClient();
  const may = useMay("users", user);
  const found = useQuery({ queryKey: ["sign-ins", user], queryFn: () => signIns(user) });
  const ending = useMutation({
    mutationFn: (token: string | undefined) => (token === undefined ? endSessionsOf(user) : revokeToken(token)),
    onSettled: () => queries.invalidateQueries({ queryKey: ["sign-ins", user] }),
  });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  const { password, factors, required, sessions, tokens } = found.data;
  const held = [
    ...sessions.map((x) => ({ id: x.id, what: t(`console.account.kind_${x.kind}`), token: "", name: x.from, until: x.expires, used: x.used })),
    ...tokens.map((x) => ({
      id: x.id,
      what: t("console.sign_ins.token"),
      token: x.name,
      name: [x.name, x.mandate, ...(x.networks ?? [])].filter(Boolean).join(", "),
      until: x.expires,
      used: x.used,
    })),
  ];
  return (
    <section className="sheet">
      <h2 className="flex items-center justify-between border-b border-line px-4 py-2.5">
        {t("console.sign_ins.title")}
        {may.edit && sessions.length > 0 && (
          <button type="button" className="button px-2 py-0.5 text-[0.86rem]" disabled={ending.isPending} onClick={() => ending.mutate(undefined)}>
            {t("console.sign_ins.end_all")}
          </button>
        )}
      </h2>
      <div className="px-4 py-2">
        <p>{password ? t("console.sign_ins.password", { time: moment(password) }) : t("console.sign_ins.no_password")}</p>
        <p className={required && factors.length === 0 ? "text-breaks" : undefined}>
          {factors.length > 0
            ? t("console.sign_ins.factors", { names: factors.map((f) => f.name).join(", ") })
            : t(required ? "console.sign_ins.factor_missing" : "console.sign_ins.no_factor")}
        </p>
        {may.edit && <MakeToken user={user} />}{" "}
        {may.edit && factors.length > 0 && (
          <Modal title={t("console.factor.reset")} button={t("console.factor.reset")} className="button mt-1 px-2 py-0.5 text-[0.86rem]">
            {(close) => <Reset user={user} close={close} />}
          </Modal>
        )}
      </div>
      <ul className="px-4 pb-2">
        {held.map((x) => (
          <li key={x.id} className="flex items-center gap-3 border-t border-line/60 py-1">
            <span className="min-w-0 flex-1">
              <span className="block [overflow-wrap:anywhere]">
                {x.what} <span className="text-soft">{x.name}</span>
              </span>
              <span className="block text-[0.86rem] text-soft tabular-nums">
                {[x.until && t("console.until", { time: moment(x.until) }), x.used && t("console.sign_ins.used", { time: moment(x.used) })]
                  .filter(Boolean)
                  .join(", ")}
              </span>
            </span>
            {may.edit && x.token && <RotateToken id={x.id} name={x.token} />}
            {may.edit && (
              <button
                type="button"
                className="button px-2 py-0.5 text-[0.86rem]"
                aria-label={`${t("console.account.end")} ${x.what} ${x.name}`}
                disabled={ending.isPending}
                onClick={() => ending.mutate(x.id)}
              >
                {t("console.account.end")}
              </button>
            )}
          </li>
        ))}
      </ul>
      <Fault text={ending.error ? reasonOf(ending.error, t("console.unreachable")) : undefined} className="px-4 pb-3" />
    </section>
  );
}

/** Reset takes the second factors of somebody away who has lost them. */
function Reset({ user, close }: { user: string; close: () => void }) {
  const queries = useQueryClient();
  const [fault, setFault] = useState("");
  const go = async () => {
    setFault("");
    try {
      await resetFactors(user);
      close();
      await queries.invalidateQueries({ queryKey: ["sign-ins", user] });
    } catch (error) {
      setFault(reasonOf(error, t("console.unreachable")));
    }
  };
  return (
    <>
      <p>{t("console.factor.reset_help")}</p>
      <Footer close={close} go={() => void go()} label={t("console.factor.reset")} fault={fault} />
    </>
  );
}
