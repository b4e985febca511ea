import { useState } from "react";
import { t } from "../words";

/** leastPassword is how many characters a password has at least. */
const leastPassword = 12;

/** useNewPassword keeps a new password, typed twice, and what is wrong with it. */
export function useNewPassword() {
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const short = password.length > 0 && [...password].length < leastPassword;
  const differs = again.length > 0 && again !== password;
  return { password, setPassword, again, setAgain, short, differs, ready: [...password].length >= leastPassword && again === password };
}

/** PasswordFields types a new password twice. */
export function PasswordFields({ of }: { of: ReturnType<typeof useNewPassword> }) {
  return (
    <>
      <PasswordField
        label={t("console.account.new")}
        name="new-password"
        value={of.password}
        onChange={of.setPassword}
        fault={of.short ? t("console.account.short", { n: leastPassword }) : ""}
      />
      <PasswordField
        label={t("console.account.again")}
        name="new-password-again"
        value={of.again}
        onChange={of.setAgain}
        fault={of.differs ? t("console.account.differs") : ""}
      />
    </>
  );
}

export function PasswordField({
  label,
  name,
  value,
  onChange,
  fault,
  current,
}: {
  label: string;
  name: string;
  value: string;
  onChange: (v: string) => void;
  fault?: string;
  current?: boolean;
}) {
  return (
    <label className="flex flex-col gap-1">
      <span className="font-medium">{label}</span>
      <input
        className="field"
        name={name}
        type="password"
        autoComplete={current ? "current-password" : "new-password"}
        value={value}
        aria-invalid={fault ? true : undefined}
        onChange={(e) => onChange(e.target.value)}
      />
      {fault && <span className="text-[0.86rem] text-breaks">{fault}</span>}
    </label>
  );
}
