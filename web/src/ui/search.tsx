import { useQuery } from "@tanstack/react-query";
import { Search } from "lucide-react";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { find } from "../api/edits";
import { t } from "../words";
import { recordPath } from "./record-link";

/** SearchBox finds everything, after the key “/” from anywhere. */
export function SearchBox() {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [word, setWord] = useState("");
  const [active, setActive] = useState(0);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && (e.target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(e.target.tagName));
      if (e.key !== "/" || typing || e.ctrlKey || e.metaKey) return;
      e.preventDefault();
      setOpen(true);
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, []);
  const found = useQuery({ queryKey: ["find", word], queryFn: () => find(word), enabled: open && word.trim() !== "", placeholderData: (b) => b });
  const rows = word.trim() ? (found.data ?? []) : [];
  const go = (i: number) => {
    const row = rows[i];
    if (!row) return;
    setOpen(false);
    setWord("");
    void navigate(recordPath(row.type, row.id));
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <button type="button" aria-label={t("console.find.open")} className="button w-full justify-start text-soft max-md:order-2 max-md:my-1.5 md:mb-3">
          <Search size={14} aria-hidden /> <span>{t("console.find.short")}</span>
          <kbd className="ml-auto rounded border border-line px-1 font-mono text-xs max-md:hidden">/</kbd>
        </button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content aria-describedby={undefined} className="sheet fixed top-[12vh] left-1/2 z-50 w-[min(92vw,36rem)] -translate-x-1/2 p-3">
          <Dialog.Title className="sr-only">{t("console.find.open")}</Dialog.Title>
          <input
            className="field text-base"
            role="combobox"
            aria-expanded={rows.length > 0}
            aria-controls="find-list"
            aria-label={t("console.find.open")}
            aria-activedescendant={rows[active] ? `find-${active}` : undefined}
            value={word}
            onChange={(e) => {
              setWord(e.target.value.replace(/^\//, "")); // the key that opened it is no part of the word
              setActive(0);
            }}
            onKeyDown={(e) => {
              if (e.key === "ArrowDown" || e.key === "ArrowUp") {
                e.preventDefault();
                setActive((a) => Math.max(0, Math.min(rows.length - 1, a + (e.key === "ArrowDown" ? 1 : -1))));
              } else if (e.key === "Enter" && !found.isPlaceholderData) go(active);
            }}
          />
          <ul id="find-list" role="listbox" aria-label={t("console.find.open")} className="mt-2 max-h-[50vh] overflow-auto">
            {rows.map((r, i) => (
              <li
                key={`${r.type}/${r.id}`}
                id={`find-${i}`}
                role="option"
                aria-selected={i === active}
                className={`flex cursor-pointer items-baseline gap-2 rounded-md px-2 py-1.5 ${i === active ? "bg-sunk" : ""}`}
                onMouseEnter={() => setActive(i)}
                onClick={() => go(i)}
              >
                <span className="w-24 shrink-0 text-xs text-soft">{t(`console.type.${r.type}`)}</span> <span className="font-medium">{r.name}</span>
                <span className="truncate text-xs text-soft"> {r.note ?? r.id}</span>
              </li>
            ))}
          </ul>
          {word.trim() && found.data?.length === 0 && <p className="px-2 py-3 text-soft">{t("console.nothing_found", { word })}</p>}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
