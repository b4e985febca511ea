import { useRef, useState } from "react";
import { t } from "../words";
import { Footer } from "./modal";

/** Once shows what is shown this once, a link or a token, to be copied. */
export function Once({ label, value, close }: { label: string; value: string; close: () => void }) {
  const field = useRef<HTMLInputElement>(null);
  const [copied, setCopied] = useState(false);
  const [fault, setFault] = useState("");
  const copy = async () => {
    field.current?.select();
    try {
      await navigator.clipboard.writeText(value);
      setCopied(true);
    } catch {
      setFault(t("console.copy_by_hand")); // the browser gives the clipboard to secure pages alone
    }
  };
  return (
    <>
      <label className="flex flex-col gap-1">
        <span className="text-xs font-medium text-soft">{label}</span>
        <input ref={field} className="field font-mono text-[0.86rem]" readOnly value={value} onFocus={(e) => e.target.select()} />
      </label>
      <Footer close={close} cancel={t("console.close")} go={() => void copy()} label={t(copied ? "console.copied" : "console.invite.copy")} fault={fault} />
    </>
  );
}
