import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { changePassword, endOtherSessions, endSession, problemOf, reasonOf, sessions } from "../api/client";
import { Busy, Fault, Trouble } from "../ui/notice";
import { t, timeFormat } from "../words";
import { PasswordField, PasswordFields, useNewPassword } from "./password-fields";

const moment = (text: string) => timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(text));

/** AccountPage is one's own: the password, and where one is signed in. */
export function AccountPage() {
  return (
    <div className="mx-auto grid max-w-4xl gap-5">
      <h1>{t("console.account.title")}</h1>
      <Password />
      <Sessions />
    </div>
  );
}

function Password() {
  const queries = useQueryClient();
  const [current, setCurrent] = useState("");
  const fresh = useNewPassword();
  const [said, setSaid] = useState("");
  const [fault, setFault] = useState("");
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setFault("");
    setSaid("");
    try {
      await changePassword(current, fresh.password);
      setCurrent("");
      fresh.setPassword("");
      fresh.setAgain("");
      setSaid(t("console.account.changed"));
      await queries.invalidateQueries({ queryKey: ["sessions"] });
    } catch (error) {
      setFault(problemOf(error));
    }
  };
  return (
    <section className="sheet p-5">
      <h2 className="mb-1">{t("console.account.password")}</h2>
      <p className="mb-3 text-soft">{t("console.account.password_help")}</p>
      <form onSubmit={(e) => void submit(e)} className="flex max-w-sm flex-col gap-3">
        <PasswordField label={t("console.account.current")} name="current" value={current} onChange={setCurrent} current />
        <PasswordFields of={fresh} />
        <div aria-live="polite">
          <Fault text={fault} />
          {said && <p role="status">{said}</p>}
        </div>
        <button type="submit" className="button primary self-start" disabled={!current || !fresh.ready}>
          {t("console.account.change")}
        </button>
      </form>
    </section>
  );
}

function Sessions() {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["sessions"], queryFn: sessions });
  const [fault, setFault] = useState("");
  const end = async (call: Promise<unknown>) => {
    setFault("");
    try {
      await call;
    } catch (error) {
      setFault(reasonOf(error, t("console.unreachable")));
    }
    await queries.invalidateQueries({ queryKey: ["sessions"] });
  };
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <section className="sheet p-5">
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <h2 className="mr-auto">{t("console.account.sessions")}</h2>
        {found.data.length > 1 && (
          <button type="button" className="button" onClick={() => void end(endOtherSessions())}>
            {t("console.account.end_others")}
          </button>
        )}
      </div>
      <Fault text={fault} className="mb-2" />
      <div className="overflow-x-auto">
        <table className="w-full">
          <thead>
            <tr className="text-left text-xs text-soft">
              <th scope="col">{t("console.account.where")}</th>
              <th scope="col">{t("console.account.from")}</th>
              <th scope="col">{t("console.account.began")}</th>
              <th scope="col">{t("console.account.expires")}</th>
              <th scope="col">
                <span className="sr-only">{t("console.account.end")}</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {found.data.map((x) => (
              <tr key={x.id} className="border-t border-line/60">
                <td className="py-1.5">{t(`console.account.kind_${x.kind}`)}</td>
                <td className="font-mono text-[0.86rem]">{x.from}</td>
                <td className="tabular-nums">{moment(x.began)}</td>
                <td className="tabular-nums">{moment(x.expires)}</td>
                <td className="text-right">
                  {x.this ? (
                    <span className="text-soft">{t("console.account.this")}</span>
                  ) : (
                    <button type="button" className="button" onClick={() => void end(endSession(x.id))}>
                      {t("console.account.end")}
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
