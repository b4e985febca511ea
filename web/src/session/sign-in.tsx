import { useQuery, useQueryClient } from "@tanstack/react-query";
import { KeyRound, LogIn } from "lucide-react";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { ApiError, signIn } from "../api/client";
import { signOns } from "../api/sources";
import { base } from "../base";
import { LanguageButton } from "../ui/language-button";
import { Fault } from "../ui/notice";
import { t } from "../words";
import { Door } from "./door";
import { CodeField } from "./factors";
import { enterByPasskey, hasPasskeys } from "./passkeys";

export function SignInPage() {
  const queries = useQueryClient();
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const [asked, setAsked] = useState(false); // for a code beside the password
  const [code, setCode] = useState("");
  const enter = async () => {
    try {
      await signIn(user.trim(), password, code.trim() || undefined);
      await queries.invalidateQueries();
    } catch (error) {
      const needsCode = error instanceof ApiError && error.problem?.needs === "second_factor";
      setCode("");
      if (needsCode && !asked) {
        setAsked(true);
        return;
      }
      if (!needsCode) {
        setAsked(false);
        setPassword("");
      }
      throw error;
    }
  };
  const providers = useQuery({ queryKey: ["sign-ons"], queryFn: signOns, retry: false });
  const [address] = useSearchParams();
  const came = address.get("sign_on") ?? "";
  const why = ["provider", "refused", "unknown", "taken", "account"].includes(came) ? t(`console.sign_on.${came}`) : "";
  const [fault, setFault] = useState("");
  const byPasskey = async () => {
    setFault("");
    try {
      await enterByPasskey();
      await queries.invalidateQueries();
    } catch (error) {
      setFault((error as Error).message);
    }
  };
  return (
    <Door
      title="Sentier"
      text={t("console.tagline")}
      go={(busy) => t(busy ? "console.sign_in.busy" : "console.sign_in.go")}
      enter={enter}
      below={
        <>
          <p className="mt-3 flex justify-between">
            {hasPasskeys() ? (
              <button type="button" className="button" onClick={() => void byPasskey()}>
                <KeyRound size={15} aria-hidden /> {t("console.passkey.sign_in")}
              </button>
            ) : (
              <span />
            )}
            <LanguageButton />
          </p>
          {providers.data?.map((p) => (
            <a key={p.id} className="button mt-3 w-full justify-center" href={`${base}sign-on/${encodeURIComponent(p.id)}`}>
              <LogIn size={15} aria-hidden /> {t("console.sign_on.at", { name: p.name })}
            </a>
          ))}
          <Fault text={fault || why} className="mt-3" />
        </>
      }
    >
      <label className="flex flex-col gap-1">
        <span className="font-medium">{t("console.sign_in.user")}</span>
        <input className="field" name="user" autoComplete="username" autoFocus required value={user} onChange={(e) => setUser(e.target.value)} />
      </label>
      <label className="flex flex-col gap-1">
        <span className="font-medium">{t("console.sign_in.password")}</span>
        <input
          className="field"
          name="password"
          type="password"
          autoComplete="current-password"
          required
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
      </label>
      {asked && (
        <>
          <p role="status">{t("console.factor.asked")}</p>
          <CodeField value={code} onChange={setCode} focus />
        </>
      )}
    </Door>
  );
}
