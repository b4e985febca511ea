import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { changePassword, endOtherSessions, endSession, problemOf, reasonOf, sessions, type Preferences } from "../api/client";
import { Busy, Fault, Trouble } from "../ui/notice";
import { t, timeFormat } from "../words";
import { FeedList } from "../feeds/list";
import { Choose } from "../ui/choose";
import { ZoneField } from "../ui/zone-field";
import { Factors } from "./factors";
import { language } from "./language";
import { useReads, useSession } from "./mandates";
import { chooseTheme } from "./theme";
import { usePreferences } from "./preferences";
import { PasswordField, PasswordFields, useNewPassword } from "./password-fields";

const moment = (text: string) => timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(text));

/** AccountPage is one's own: the password, and where one is signed in. */
export function AccountPage() {
  return (
    <div className="mx-auto grid max-w-4xl gap-5">
      <h1>{t("console.account.title")}</h1>
      <Preferred />
      <Password />
      <Factors />
      <Sessions />
      <Feeds />
    </div>
  );
}

/** Feeds are the calendars that others read by an address of one's own making. */
function Feeds() {
  const who = useSession();
  return <FeedList own={who?.user.id ?? ""} />;
}

const landings = ["today", "check", "devices", "people", "grants", "times", "matrix"] as const;

/** Preferred is how one has the console, wherever one signs in. */
function Preferred() {
  const [own, prefer] = usePreferences();
  const reads = useReads();
  const [fault, setFault] = useState("");
  const set = (part: Preferences) => {
    setFault("");
    prefer(part).catch((error: unknown) => setFault(problemOf(error)));
  };
  return (
    <section className="sheet p-5">
      <h2 className="mb-1">{t("console.account.preferred")}</h2>
      <p className="mb-3 text-soft">{t("console.account.preferred_help")}</p>
      <div className="grid max-w-2xl gap-3 sm:grid-cols-2">
        <Choose
          label={t("console.account.language")}
          value={own.language ?? language()}
          options={[
            { value: "en", label: "English" },
            { value: "fr", label: "Français" },
          ]}
          onChange={(v) => set({ language: v as Preferences["language"] })}
        />
        <Choose
          label={t("console.account.theme")}
          none={t("console.account.as_system")}
          value={own.theme ?? ""}
          options={["light", "dark"].map((v) => ({ value: v, label: t(`console.account.${v}`) }))}
          onChange={(v) => {
            const theme = (v || undefined) as Preferences["theme"];
            chooseTheme(theme);
            set({ theme });
          }}
        />
        {reads && (
          <Choose
            label={t("console.account.landing")}
            value={own.landing ?? "today"}
            options={landings.map((v) => ({ value: v, label: t(`console.place.${v}`) }))}
            onChange={(v) => set({ landing: landings.find((l) => l === v) })}
          />
        )}
        {reads && <ZoneField label={t("console.account.zone")} value={own.zone ?? ""} onChange={(zone) => set({ zone })} />}
      </div>
      <Fault text={fault} className="mt-3" />
    </section>
  );
}

/** Password changes one's own password; done is called when it is. */
export function Password({ done }: { done?: () => void }) {
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
      done?.();
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
              <th scope="col">{t("console.account.used")}</th>
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
                <td className="tabular-nums">{x.used ? moment(x.used) : ""}</td>
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
