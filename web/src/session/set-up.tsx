import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { setUp } from "../api/client";
import { LanguageButton } from "../ui/language-button";
import { t } from "../words";
import { Door } from "./door";
import { PasswordFields, useNewPassword } from "./password-fields";

/** SetUpPage makes the first owner of a service, by the code that its start has printed. */
export function SetUpPage() {
  const queries = useQueryClient();
  const [code, setCode] = useState("");
  const [name, setName] = useState("");
  const fresh = useNewPassword();
  const enter = async () => {
    await setUp(code, name.trim(), fresh.password);
    await queries.invalidateQueries();
  };
  return (
    <Door
      title={t("console.set_up.title")}
      text={t("console.set_up.text")}
      go={() => t("console.set_up.go")}
      ready={fresh.ready && code.trim() !== "" && name.trim() !== ""}
      enter={enter}
      below={
        <p className="mt-3 flex justify-end">
          <LanguageButton />
        </p>
      }
    >
      <label className="flex flex-col gap-1">
        <span className="font-medium">{t("console.set_up.code")}</span>
        <input className="field font-mono" name="code" autoComplete="off" autoFocus value={code} onChange={(e) => setCode(e.target.value)} />
      </label>
      <label className="flex flex-col gap-1">
        <span className="font-medium">{t("console.set_up.name")}</span>
        <input className="field" name="name" autoComplete="name" value={name} onChange={(e) => setName(e.target.value)} />
      </label>
      <PasswordFields of={fresh} />
    </Door>
  );
}
