import { useState, type FormEvent } from "react";
import { Refused, welcome } from "../api/client";
import { base } from "../base";
import { say } from "../words";
import { PasswordFields, useNewPassword } from "./password-fields";

/** WelcomePage sets a password by the link that somebody was given. The secret stands behind the #, and leaves the address at once. */
export function WelcomePage() {
  const [link] = useState(() => {
    const secret = location.hash.slice(1);
    history.replaceState(null, "", location.pathname);
    return secret;
  });
  const fresh = useNewPassword();
  const [fault, setFault] = useState("");
  const [busy, setBusy] = useState(false);
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFault("");
    try {
      await welcome(link, fresh.password);
      location.assign(base);
    } catch (error) {
      setFault(error instanceof Refused ? error.message : say("console.unreachable"));
      setBusy(false);
    }
  };
  return (
    <main className="grid min-h-screen place-items-center px-4">
      <div className="w-full max-w-sm">
        <div className="mb-6 flex items-center gap-3">
          <img src={`${base}mark.svg`} alt="" width="44" height="44" />
          <div>
            <h1 className="leading-none">{say("console.welcome.title")}</h1>
            <p className="mt-1 text-soft">{say("console.welcome.text")}</p>
          </div>
        </div>
        <form onSubmit={(e) => void submit(e)} className="sheet flex flex-col gap-4 p-6">
          <PasswordFields of={fresh} />
          {fault && (
            <p role="alert" className="border-l-4 border-breaks pl-3">
              {fault}
            </p>
          )}
          <button type="submit" className="button primary justify-center" disabled={busy || !fresh.ready}>
            {say("console.welcome.go")}
          </button>
        </form>
      </div>
    </main>
  );
}
