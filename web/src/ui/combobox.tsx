import { useQueries, useQueryClient } from "@tanstack/react-query";
import clsx from "clsx";
import { useId, useRef, useState, type ReactNode } from "react";
import { flushSync } from "react-dom";
import { list, titleOf, type Device, type Listed, type Row } from "../api/records";
import { t } from "../words";
import { Chips, Labelled } from "./fields";
import { useName, usePointName } from "./names";
import { useReading, whenReleased } from "./reading";
import { Name } from "./record-link";
import { TypeMark } from "./type-mark";

/** Findable is what can be chosen: a type of record, or the points of devices. */
export type Findable = Listed | "points";

/** Ref is what was chosen. A point is written device/point. */
export type Ref = { type: Findable; id: string };

type Choice = Ref & { name: string; note?: ReactNode };

/** choicesOf turns a record into what can be chosen of it: itself, or the points of a device. */
function choicesOf(type: Findable, row: Row<Listed>): Choice[] {
  const id = row.id;
  if (type !== "points") return [{ type, id, name: titleOf(row), note: noteOf(type, row) }];
  return ((row as Device).points ?? []).map((p) => ({ type, id: `${id}/${p.id}`, name: `${titleOf(row)} / ${p.name ?? p.id}` }));
}

/** noteOf says what one should know before choosing: where a device stands, and that something is not as usual. */
function noteOf(type: Listed, row: Row<Listed>): ReactNode {
  if (type === "devices") {
    const d = row as Device;
    return (
      <>
        {d.site && <Name type="sites" id={d.site} />}
        {d.state !== "in-service" && <span className="ml-2 text-breaks">{t(`console.value.${d.state ?? ""}`)}</span>}
      </>
    );
  }
  const status = "status" in row ? row.status : undefined;
  if (status && status !== "active") return <span className="text-breaks">{t(`console.value.${status}`)}</span>;
  return undefined;
}

// What was chosen last, of each kind of question, for as long as the page is open.
const lately = new Map<string, Choice[]>();
const mostLately = 5;

function remember(types: Findable[], c: Choice) {
  const key = types.join();
  const others = (lately.get(key) ?? []).filter((x) => x.id !== c.id || x.type !== c.type);
  lately.set(key, [{ type: c.type, id: c.id, name: c.name }, ...others].slice(0, mostLately));
}

/** search asks for what one type has of a word. */
const search = (type: Findable, word: string, limit: number) => ({
  queryKey: ["pick", type, word, limit],
  queryFn: () => list(type === "points" ? "devices" : type, { q: word.split("/")[0]?.trim() ?? "", sort: "name", limit }),
  staleTime: 10_000,
});

/** useFound searches what can be chosen for a word; of no word, what was chosen last stands first. */
function useFound(types: Findable[], word: string, open: boolean) {
  const queries = useQueryClient();
  const limit = types.length > 1 ? 8 : 20;
  const found = useQueries({
    queries: types.map((type) => ({ ...search(type, word, limit), enabled: open, placeholderData: <T,>(before: T) => before })),
  });
  const all = types.flatMap((type, i) => found[i]?.data?.items.flatMap((row) => choicesOf(type, row)) ?? []);
  const last = word === "" ? (lately.get(types.join()) ?? []) : [];
  const choices = [...last, ...all.filter((c) => !last.some((l) => l.id === c.id && l.type === c.type))].slice(0, 40);
  /** whole gives what a word names whole: by its name or its id. */
  const whole = async () => {
    const pages = await Promise.all(types.map((type) => queries.fetchQuery(search(type, word, limit))));
    const named = types.flatMap((type, i) => pages[i]?.items.flatMap((row) => choicesOf(type, row)) ?? []);
    return named.filter((c) => c.name.toLowerCase() === word.toLowerCase() || c.id === word);
  };
  return {
    choices,
    whole,
    fresh: found.every((f) => !f.isPlaceholderData && !f.isFetching),
    known: found.every((f) => f.data !== undefined),
  };
}

type BoxProps = {
  label: string;
  types: Findable[];
  /** shown is what stands in the box while nobody types. */
  shown: string;
  onPick: (c: Ref) => void;
  /** onEmpty is called where the box was emptied; without it, it goes back to what it was. */
  onEmpty?: () => void;
  hint?: string;
  hidden?: boolean;
  fault?: string;
};

/** Box finds by any part of a name; what it finds is chosen by a click or with the keyboard alone. */
function Box({ label, types, shown, onPick, onEmpty, hint, hidden, fault }: BoxProps) {
  const id = useId();
  const reading = useReading();
  const box = useRef<HTMLDivElement>(null);
  const [typed, setTyped] = useState<string>();
  const [open, setOpen] = useState(false);
  const [active, setActive] = useState(0);
  const [lost, setLost] = useState("");
  const word = (typed ?? "").trim();
  const { choices, whole, fresh, known } = useFound(types, word, open);
  const twice = (c: Choice) => choices.some((x) => x !== c && x.name === c.name);

  const choose = (c: Choice) => {
    remember(types, c);
    reading(Promise.resolve(true));
    setLost("");
    setTyped(undefined);
    setOpen(false);
    onPick(c);
  };
  // What is typed whole is chosen when the field is left; what names nothing stays as it is, and is told.
  const leave = async () => {
    if (word === "") {
      setLost("");
      setTyped(undefined);
      onEmpty?.();
      return true;
    }
    const named = await whole().catch(() => undefined);
    const only = named?.length === 1 ? named[0] : undefined;
    if (only) flushSync(() => choose(only));
    else if (named) setLost(t(named.length > 1 ? "console.pick.several" : "console.pick.lost", { word }));
    else setLost(t("console.unreachable"));
    return only !== undefined;
  };
  const left = () => {
    setOpen(false);
    if (typed !== undefined) reading(whenReleased(leave));
  };
  return (
    <div ref={box} className="relative" onBlur={(e) => !box.current?.contains(e.relatedTarget) && left()}>
      <Labelled label={label} htmlFor={id} hidden={hidden} fault={lost || fault}>
        <input
          id={id}
          className="field"
          role="combobox"
          autoComplete="off"
          placeholder={hint}
          aria-expanded={open}
          aria-controls={`${id}-list`}
          aria-activedescendant={open && choices[active] ? `${id}-${active}` : undefined}
          aria-invalid={lost || fault ? true : undefined}
          value={typed ?? shown}
          onFocus={(e) => e.target.select()}
          onClick={() => setOpen(true)}
          onChange={(e) => {
            setTyped(e.target.value);
            setActive(0);
            setOpen(true);
          }}
          onKeyDown={(e) => {
            if (e.key === "ArrowDown" || e.key === "ArrowUp") {
              e.preventDefault();
              setOpen(true);
              setActive((a) => Math.max(0, Math.min(choices.length - 1, a + (e.key === "ArrowDown" ? 1 : -1))));
            } else if (e.key === "Enter" && open) {
              e.preventDefault();
              // What is still shown of the word before is never what was meant.
              if (fresh && choices[active]) choose(choices[active]);
            } else if (e.key === "Escape" && open) {
              e.stopPropagation(); // the dialog around it stays
              setOpen(false);
            }
          }}
        />
      </Labelled>
      <ul
        id={`${id}-list`}
        role="listbox"
        aria-label={label}
        aria-busy={!fresh}
        hidden={!open}
        className="absolute top-full right-0 left-0 z-30 mt-1 max-h-72 min-w-64 overflow-auto rounded-md border border-line bg-sheet py-1 shadow-(--shadow)"
      >
        {choices.map((c, i) => (
          <li
            key={`${c.type}/${c.id}`}
            id={`${id}-${i}`}
            role="option"
            aria-selected={i === active}
            tabIndex={-1}
            className={clsx("flex cursor-pointer items-baseline gap-2 px-3 py-1.5", i === active && "bg-sunk")}
            onMouseEnter={() => setActive(i)}
            onMouseDown={(e) => {
              e.preventDefault();
              choose(c);
            }}
          >
            {types.length > 1 && <TypeMark type={c.type} />}
            <span className="font-medium">{c.name}</span>
            {twice(c) && <span className="font-mono text-xs text-soft">{c.id}</span>}
            {c.note && <span className="ml-auto truncate text-xs text-soft">{c.note}</span>}
          </li>
        ))}
        {known && fresh && choices.length === 0 && <li className="px-3 py-1.5 text-soft">{t("console.nothing_found", { word })}</li>}
      </ul>
    </div>
  );
}

type OneProps = Omit<BoxProps, "types" | "shown" | "onPick" | "onEmpty"> & {
  type: Listed;
  value: string | undefined;
  onChange: (id: string | undefined) => void;
};

/** Combobox chooses one record, or none. It shows its name, never its id. */
export function Combobox({ type, value, onChange, ...box }: OneProps) {
  const name = useName(type, value ?? "");
  return <Box {...box} types={[type]} shown={value ? (name ?? "…") : ""} onPick={(c) => onChange(c.id)} onEmpty={() => onChange(undefined)} />;
}

/** DeviceBox chooses a device or a point of one, written device/point. */
export function DeviceBox({ value, onChange, ...box }: Omit<OneProps, "type">) {
  const device = useName("devices", value?.includes("/") ? "" : (value ?? ""));
  const point = usePointName(value ?? "");
  const shown = (value?.includes("/") ? point : device) ?? "…";
  return <Box {...box} types={["devices", "points"]} shown={value ? shown : ""} onPick={(c) => onChange(c.id)} onEmpty={() => onChange(undefined)} />;
}

/** Adder finds one record after the other, and hands each on at once. */
export function Adder(props: Omit<BoxProps, "shown" | "onEmpty">) {
  return <Box {...props} shown="" />;
}

/** ManyBox is a set of records of one type: those that are chosen, and a box that finds more. */
export function ManyBox({ type, value, onChange, ...box }: Omit<OneProps, "value" | "onChange"> & { value: string[]; onChange: (ids: string[]) => void }) {
  return (
    <div className="flex flex-col gap-1.5">
      <Adder {...box} types={[type]} onPick={(c) => !value.includes(c.id) && onChange([...value, c.id])} />
      <Chips items={value.map((id) => ({ key: id, name: id, shown: <Name type={type} id={id} /> }))} onDrop={(id) => onChange(value.filter((i) => i !== id))} />
    </div>
  );
}
