import { Check as Tick, Link2 } from "lucide-react";
import { useState } from "react";
import { t } from "../words";
import { Modal } from "./modal";
import { Once } from "./once";

/** CopyLink copies the link to what is shown; where the browser gives no clipboard, as on pages that are not secure, it is shown to be copied by hand. */
export function CopyLink({ link, className = "button print:hidden" }: { link: () => string; className?: string }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(link());
    setCopied(true);
    setTimeout(() => setCopied(false), 2000);
  };
  if (!navigator.clipboard)
    return (
      <Modal title={t("console.check.copy")} button={t("console.check.copy")} className={className}>
        {(close) => <Once label={t("console.check.copy")} value={link()} close={close} />}
      </Modal>
    );
  return (
    <button type="button" className={className} onClick={() => void copy()}>
      {copied ? <Tick size={15} aria-hidden /> : <Link2 size={15} aria-hidden />}
      {t(copied ? "console.check.copied" : "console.check.copy")}
    </button>
  );
}

/** hereWithout is the address of this page without one of its parameters. */
export function hereWithout(parameter: string) {
  const here = new URL(location.href);
  here.searchParams.delete(parameter);
  return here.href;
}
