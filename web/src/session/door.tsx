import { useState, type FormEvent, type ReactNode } from "react";
import { reasonOf } from "../api/client";
import { base } from "../base";
import { Fault } from "../ui/notice";
import { t } from "../words";

/** Door is a page for whoever is not signed in: a form by which they come in. */
export function Door({
  title,
  text,
  go,
  ready = true,
  enter,
  below,
  children,
}: {
  title: string;
  text: string;
  go: (busy: boolean) => string;
  ready?: boolean;
  enter: () => Promise<void>;
  below?: ReactNode;
  children: ReactNode;
}) {
  const [fault, setFault] = useState("");
  const [busy, setBusy] = useState(false);
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFault("");
    try {
      await enter();
    } catch (error) {
      setFault(reasonOf(error, t("console.unreachable")));
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
            <h1 className="leading-none">{title}</h1>
            <p className="mt-1 text-soft">{text}</p>
          </div>
        </div>
        <form onSubmit={(e) => void submit(e)} className="sheet flex flex-col gap-4 p-6">
          {children}
          <Fault text={fault} />
          <button type="submit" className="button primary justify-center" disabled={busy || !ready}>
            {go(busy)}
          </button>
        </form>
        {below}
      </div>
    </main>
  );
}
