import { useQueryClient } from "@tanstack/react-query";
import { Undo2, X } from "lucide-react";
import { createContext, useCallback, useContext, useState, type ReactNode } from "react";
import { undo, type Saved } from "../api/edits";
import { Reached } from "../machines/reached";
import { t } from "../words";

const Context = createContext<(saved: Saved) => void>(() => undefined);

/** useToast gives the function that shows what was saved, with its undo beside it for a while. */
export const useToast = () => useContext(Context);

const shownFor = 20_000;

export function ToastArea({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [shown, setShown] = useState<{ saved: Saved; text: string; undone: boolean }>();
  const show = useCallback((saved: Saved) => {
    if (!saved.saved || saved.changes.length === 0) return;
    const first = saved.changes[0];
    const text = saved.draft
      ? t("console.draft.put", { count: saved.changes.length })
      : saved.changes.length === 1
        ? t("console.toast.one", { op: t(`console.op.${first?.op ?? ""}`), name: first?.name ?? "", revision: saved.revision })
        : t("console.toast.many", { count: saved.changes.length, revision: saved.revision });
    setShown({ saved, text, undone: Boolean(saved.draft) });
    setTimeout(() => setShown((s) => (s?.saved === saved ? undefined : s)), shownFor);
  }, []);
  const back = async (saved: Saved) => {
    try {
      const done = await undo([saved.revision]);
      setShown({ saved: done, text: t("console.toast.undone", { revision: done.revision }), undone: true });
      await queries.invalidateQueries();
    } catch (error) {
      setShown({ saved, text: (error as Error).message, undone: true });
    }
  };
  return (
    <Context.Provider value={show}>
      {children}
      {/* Beside the page, where it covers nothing that is pressed next. */}
      <div aria-live="polite" className="fixed right-3 bottom-3 left-3 z-50 md:right-auto md:bottom-36 md:w-[10.5rem] print:hidden">
        {shown && (
          <div className="sheet flex items-center gap-2 px-3 py-2 text-[0.86rem] md:flex-col md:items-start">
            <span className="min-w-0">{shown.text}</span>
            {!shown.saved.draft && <Reached revision={shown.saved.revision} />}
            {!shown.undone && (
              <button type="button" className="button" onClick={() => void back(shown.saved)}>
                <Undo2 size={15} aria-hidden /> {t("console.toast.undo")}
              </button>
            )}
            <button type="button" className="button border-transparent px-1" aria-label={t("console.toast.close")} onClick={() => setShown(undefined)}>
              <X size={15} aria-hidden />
            </button>
          </div>
        )}
      </div>
    </Context.Provider>
  );
}
