import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { t } from "../words";
import { Question } from "./modal";

/** What a key does, after g: it goes to a place. */
const places: Record<string, { to: string; key: string }> = {
  t: { to: "/", key: "today" },
  c: { to: "/check", key: "check" },
  d: { to: "/devices", key: "devices" },
  p: { to: "/people", key: "people" },
  a: { to: "/grants", key: "grants" },
  w: { to: "/times", key: "times" },
  m: { to: "/matrix", key: "matrix" },
  r: { to: "/rights", key: "rights" },
};

const isTyping = (at: EventTarget | null) =>
  at instanceof HTMLElement && (at.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(at.tagName) || at.closest("[role=dialog]") !== null);

/** Shortcuts are keys that go somewhere or begin something, and the list of them, under “?”. */
export function Shortcuts() {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  useEffect(() => {
    let going = false;
    const key = (e: KeyboardEvent) => {
      if (e.ctrlKey || e.metaKey || e.altKey || isTyping(e.target)) return;
      if (e.key === "?") {
        e.preventDefault();
        setOpen(true);
      } else if (going && places[e.key]) {
        e.preventDefault();
        void navigate(places[e.key]?.to ?? "/");
      } else if (e.key === "n") {
        // The primary button of a list makes a new one of what is listed.
        document.querySelector<HTMLAnchorElement>("main a.button.primary")?.click();
      } else if (e.key === "e") {
        document.querySelector<HTMLAnchorElement>("main a[href$='/edit']")?.click();
      }
      going = e.key === "g";
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, [navigate]);
  return (
    <Question title={t("console.keys.title")} open={open} close={() => setOpen(false)}>
      <dl className="grid grid-cols-[7rem_1fr] gap-y-1 pb-4">
        <Key keys={["/"]} does={t("console.find.open")} />
        <Key keys={["?"]} does={t("console.keys.title")} />
        <Key keys={["n"]} does={t("console.keys.new")} />
        <Key keys={["e"]} does={t("console.keys.edit")} />
        {Object.entries(places).map(([k, p]) => (
          <Key key={k} keys={["g", k]} does={t(`console.place.${p.key}`)} />
        ))}
        <Key keys={["Enter"]} does={t("console.keys.enter")} />
        <Key keys={["Esc"]} does={t("console.keys.escape")} />
      </dl>
    </Question>
  );
}

function Key({ keys, does }: { keys: string[]; does: string }) {
  return (
    <>
      <dt>
        {keys.map((k) => (
          <kbd key={k} className="mr-1 rounded border border-line bg-sunk px-1.5 font-mono text-[0.86rem]">
            {k}
          </kbd>
        ))}
      </dt>
      <dd>{does}</dd>
    </>
  );
}
