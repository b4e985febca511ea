import { useQuery } from "@tanstack/react-query";
import clsx from "clsx";
import { useId, useRef, useState } from "react";
import { list, type Row } from "../api/client";
import { t } from "../words";

/** Where a device's points can be picked: with the devices, or alone. */
const pointed = ["devices/points", "points"];

type Choice = { id: string; name: string; note?: string };

/** choices turns a record into what can be picked: itself, and a device's points. */
function choices(type: string, row: Row): Choice[] {
  const own: Choice = { id: row.id, name: row.name ?? row.id, note: note(type, row) };
  const points = (pointed.includes(type) && (row.points as { id: string; name?: string }[] | undefined)) || [];
  return [...(type === "points" ? [] : [own]), ...points.map((p) => ({ id: `${row.id}/${p.id}`, name: `${own.name} / ${p.name ?? p.id}` }))];
}

function note(type: string, row: Row) {
  if (type === "users" && row.status !== "active") return t(`console.value.${String(row.status)}`);
  if ((type === "devices" || pointed.includes(type)) && row.state !== "in-service") return t(`console.value.${String(row.state)}`);
  return undefined;
}

/** Picker chooses a record by searching for it, with the keyboard alone if need be. */
export function Picker({
  label,
  type,
  value,
  onChange,
  onPick = onChange,
}: {
  label: string;
  type: string;
  value: string;
  onChange: (id: string) => void;
  onPick?: (id: string) => void;
}) {
  const id = useId();
  const [open, setOpen] = useState(false);
  const [active, setActive] = useState(0);
  const box = useRef<HTMLDivElement>(null);

  const word = value.split("/")[0] ?? "";
  const found = useQuery({
    queryKey: ["pick", type, word],
    queryFn: () => list(pointed.includes(type) ? "devices" : type, { q: word, limit: 20 }),
    enabled: open,
    placeholderData: (before) => before,
  });
  const offered = (found.data?.items ?? []).flatMap((row) => choices(type, row)).slice(0, 30);

  const choose = (c: Choice) => {
    onPick(c.id);
    setOpen(false);
  };

  return (
    <div
      ref={box}
      className="relative flex flex-col gap-1"
      onBlur={(e) => {
        if (box.current?.contains(e.relatedTarget)) return;
        setOpen(false);
      }}
    >
      <label htmlFor={id} className="text-xs font-medium text-soft">
        {label}
      </label>
      <input
        id={id}
        className="field"
        role="combobox"
        autoComplete="off"
        aria-expanded={open}
        aria-controls={`${id}-list`}
        aria-activedescendant={open && offered[active] ? `${id}-${active}` : undefined}
        value={value}
        onFocus={(e) => e.target.select()}
        onClick={() => setOpen(true)}
        onChange={(e) => {
          onChange(e.target.value);
          setActive(0);
          setOpen(true);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown" || e.key === "ArrowUp") {
            e.preventDefault();
            setOpen(true);
            setActive((a) => Math.max(0, Math.min(offered.length - 1, a + (e.key === "ArrowDown" ? 1 : -1))));
          } else if (e.key === "Enter" && open && offered[active]) {
            e.preventDefault();
            // What is still shown of the word before is never what was meant.
            if (!found.isPlaceholderData) choose(offered[active]);
          } else if (e.key === "Escape") {
            setOpen(false);
          }
        }}
      />
      <ul
        id={`${id}-list`}
        role="listbox"
        aria-label={label}
        aria-busy={found.isPlaceholderData}
        hidden={!open}
        className="absolute top-full right-0 left-0 z-30 mt-1 max-h-72 min-w-64 overflow-auto rounded-md border border-line bg-sheet py-1 shadow-(--shadow)"
      >
        {offered.map((c, i) => (
          <li
            key={c.id}
            id={`${id}-${i}`}
            role="option"
            aria-selected={i === active}
            tabIndex={-1}
            className={clsx("cursor-pointer px-3 py-1.5", i === active && "bg-sunk")}
            onMouseEnter={() => setActive(i)}
            onMouseDown={(e) => {
              e.preventDefault();
              choose(c);
            }}
          >
            <span className="font-medium">{c.name}</span> <span className="ml-1 font-mono text-xs text-soft">{c.id}</span>
            {c.note && <span className="ml-2 text-xs text-breaks">{c.note}</span>}
          </li>
        ))}
        {found.data && offered.length === 0 && <li className="px-3 py-1.5 text-soft">{t("console.nothing_found", { word })}</li>}
      </ul>
    </div>
  );
}
