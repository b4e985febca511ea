import { base } from "../base";
import { useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Refused, signIn } from "../api/client";
import { LanguageButton } from "../ui/language-button";
import { say } from "../words";

export function SignInPage() {
  const queries = useQueryClient();
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const [fault, setFault] = useState("");
  const [busy, setBusy] = useState(false);

  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFault("");
    try {
      await signIn(user.trim(), password);
      await queries.invalidateQueries();
    } catch (error) {
      setPassword("");
      setFault(error instanceof Refused ? error.message : say("console.unreachable"));
    } finally {
      setBusy(false);
    }
  };

  return (
    <main className="grid min-h-screen place-items-center px-4">
      <div className="w-full max-w-sm">
        <div className="mb-6 flex items-center gap-3">
          <img src={`${base}mark.svg`} alt="" width="44" height="44" />
          <div>
            <h1 className="leading-none">Sentier</h1>
            <p className="mt-1 text-soft">{say("console.tagline")}</p>
          </div>
        </div>
        <form onSubmit={(e) => void submit(e)} className="sheet flex flex-col gap-4 p-6">
          <label className="flex flex-col gap-1">
            <span className="font-medium">{say("console.sign_in.user")}</span>
            <input className="field" name="user" autoComplete="username" autoFocus required value={user} onChange={(e) => setUser(e.target.value)} />
          </label>
          <label className="flex flex-col gap-1">
            <span className="font-medium">{say("console.sign_in.password")}</span>
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
          {fault && (
            <p role="alert" className="border-l-4 border-breaks pl-3">
              {fault}
            </p>
          )}
          <button type="submit" className="button primary justify-center" disabled={busy}>
            {say(busy ? "console.sign_in.busy" : "console.sign_in.go")}
          </button>
        </form>
        <p className="mt-3 flex justify-end">
          <LanguageButton />
        </p>
      </div>
    </main>
  );
}
