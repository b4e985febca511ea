import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { changePassword, endOtherSessions, endSession, reasonOf, Refused, sessions } from "../api/client";
import { Busy, Fault, Trouble } from "../ui/notice";
import { say, timeFormat } from "../words";
import { PasswordField, PasswordFields, useNewPassword } from "./password-fields";

const moment = (text: string) => timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(text));

/** AccountPage is one's own: the password, and where one is signed in. */
export function AccountPage() {
  return (
    <div className="mx-auto grid max-w-4xl gap-5">
      <h1>{say("console.account.title")}</h1>
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
      setSaid(say("console.account.changed"));
      await queries.invalidateQueries({ queryKey: ["sessions"] });
    } catch (error) {
      setFault(error instanceof Refused ? (error.problem?.faults?.map((f) => f.problem).join(" ") ?? error.message) : say("console.unreachable"));
    }
  };
  return (
    <section className="sheet p-5">
      <h2 className="mb-1">{say("console.account.password")}</h2>
      <p className="mb-3 text-soft">{say("console.account.password_help")}</p>
      <form onSubmit={(e) => void submit(e)} className="flex max-w-sm flex-col gap-3">
        <PasswordField label={say("console.account.current")} name="current" value={current} onChange={setCurrent} current />
        <PasswordFields of={fresh} />
        <div aria-live="polite">
          <Fault text={fault} />
          {said && <p role="status">{said}</p>}
        </div>
        <button type="submit" className="button primary self-start" disabled={!current || !fresh.ready}>
          {say("console.account.change")}
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
      setFault(reasonOf(error, say("console.unreachable")));
    }
    await queries.invalidateQueries({ queryKey: ["sessions"] });
  };
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <section className="sheet p-5">
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <h2 className="mr-auto">{say("console.account.sessions")}</h2>
        {found.data.length > 1 && (
          <button type="button" className="button" onClick={() => void end(endOtherSessions())}>
            {say("console.account.end_others")}
          </button>
        )}
      </div>
      <Fault text={fault} className="mb-2" />
      <div className="overflow-x-auto">
        <table className="w-full">
          <thead>
            <tr className="text-left text-xs text-soft">
              <th scope="col">{say("console.account.where")}</th>
              <th scope="col">{say("console.account.from")}</th>
              <th scope="col">{say("console.account.began")}</th>
              <th scope="col">{say("console.account.expires")}</th>
              <th scope="col">
                <span className="sr-only">{say("console.account.end")}</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {found.data.map((x) => (
              <tr key={x.id} className="border-t border-line/60">
                <td className="py-1.5">{say(`console.account.kind_${x.kind}`)}</td>
                <td className="font-mono text-[0.86rem]">{x.from}</td>
                <td className="tabular-nums">{moment(x.began)}</td>
                <td className="tabular-nums">{moment(x.expires)}</td>
                <td className="text-right">
                  {x.this ? (
                    <span className="text-soft">{say("console.account.this")}</span>
                  ) : (
                    <button type="button" className="button" onClick={() => void end(endSession(x.id))}>
                      {say("console.account.end")}
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
