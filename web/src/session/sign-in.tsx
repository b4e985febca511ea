import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { signIn } from "../api/client";
import { LanguageButton } from "../ui/language-button";
import { t } from "../words";
import { Door } from "./door";

export function SignInPage() {
  const queries = useQueryClient();
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const enter = async () => {
    try {
      await signIn(user.trim(), password);
      await queries.invalidateQueries();
    } catch (error) {
      setPassword("");
      throw error;
    }
  };
  return (
    <Door
      title="Sentier"
      text={t("console.tagline")}
      go={(busy) => t(busy ? "console.sign_in.busy" : "console.sign_in.go")}
      enter={enter}
      below={
        <p className="mt-3 flex justify-end">
          <LanguageButton />
        </p>
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
    </Door>
  );
}
