import { useQuery } from "@tanstack/react-query";
import clsx from "clsx";
import { ChevronDown, ChevronRight } from "lucide-react";
import { useState } from "react";
import { counts } from "../api/client";
import { list, titleOf } from "../api/records";
import { useAddress } from "../ui/address";
import { Combobox } from "../ui/combobox";
import { number, t } from "../words";

type Count = { own: number; all: number; below?: number };
type Branch = { id: string; name?: string; parent?: string };

/** Up to so many sites or groups are read at once and stand open; of more, each is read as what it lies in is opened. */
const atOnce = 200;

/** How many branches are drawn of one place before one asks for more. */
const drawn = 50;

/** Trees are the sites and the device groups, with their counts; choosing one narrows the table down to it. */
export function Trees() {
  const found = useQuery({ queryKey: ["counts"], queryFn: counts, staleTime: 10_000 });
  const [params, setParams] = useAddress();
  const choose = (name: string, id: string) =>
    setParams((p) => {
      const next = new URLSearchParams(p);
      const same = next.get(name) === id;
      next.delete("site");
      next.delete("group");
      if (!same) next.set(name, id);
      return next;
    });
  const unsorted = found.data?.unsorted ?? 0;
  return (
    <div className="flex flex-col gap-4">
      <section aria-label={t("console.types.sites")}>
        <h2 className="mb-1 px-2 text-xs text-soft">{t("console.types.sites")}</h2>
        {unsorted > 0 && (
          <Leaf
            chosen={params.get("site") === "-"}
            name={t("console.unsorted_devices")}
            count={{ own: unsorted, all: unsorted }}
            onChoose={() => choose("site", "-")}
          />
        )}
        <Tree type="sites" counts={found.data?.sites} chosen={params.get("site") ?? ""} onChoose={(id) => choose("site", id)} />
      </section>
      <section aria-label={t("console.types.device_groups")}>
        <h2 className="mb-1 px-2 text-xs text-soft">{t("console.types.device_groups")}</h2>
        <Tree type="device_groups" counts={found.data?.device_groups} chosen={params.get("group") ?? ""} onChoose={(id) => choose("group", id)} />
      </section>
    </div>
  );
}

type TreeProps = { type: "sites" | "device_groups"; counts?: Record<string, Count>; chosen: string; onChoose: (id: string) => void };

function Tree(props: TreeProps) {
  const { type, chosen, onChoose } = props;
  const found = useQuery({ queryKey: ["tree", type], queryFn: () => list(type, { limit: atOnce, sort: "name" }), staleTime: 30_000 });
  if (!found.data) return null;
  const { items, total } = found.data;
  if (total <= items.length) return <Branches {...props} rows={items} depth={0} />;
  return (
    <>
      <div className="px-2 pb-1">
        <Combobox
          label={t("console.tree.find")}
          hint={t("console.tree.find")}
          hidden
          type={type}
          value={chosen || undefined}
          onChange={(id) => onChoose(id ?? chosen)}
        />
      </div>
      <Branches {...props} depth={0} />
    </>
  );
}

/** Branches are what lies in a place: of all that were read, or, of too many for that, read now. */
function Branches({ rows, parent, depth, ...tree }: TreeProps & { rows?: Branch[]; parent?: string; depth: number }) {
  const [turned, setTurned] = useState<string[]>([]); // those that are not as they are at first: open of few, closed of many
  const [most, setMost] = useState(drawn);
  const read = useQuery({
    queryKey: ["tree", tree.type, parent ?? "-", most],
    queryFn: () => list(tree.type, { limit: most, sort: "name", filter: { parent: parent ?? "-" } }),
    enabled: rows === undefined,
    placeholderData: (before) => before,
    staleTime: 30_000,
  });
  const here: Branch[] = rows ? rows.filter((r) => r.parent === parent) : (read.data?.items ?? []);
  const more = rows ? 0 : (read.data?.total ?? 0) - here.length;
  if (here.length === 0) return null;
  return (
    <ul>
      {here.map((r) => {
        const count = tree.counts?.[r.id] ?? { own: 0, all: 0 };
        const open = turned.includes(r.id) !== (rows !== undefined);
        return (
          <li key={r.id}>
            <div className="flex items-center" style={{ paddingLeft: depth * 12 }}>
              {count.below ? (
                <button
                  type="button"
                  className="grid size-[24px] shrink-0 cursor-pointer place-items-center rounded text-soft hover:text-ink"
                  aria-expanded={open}
                  aria-label={t(open ? "console.tree.close" : "console.tree.open", { name: titleOf(r) })}
                  onClick={() => setTurned(turned.includes(r.id) ? turned.filter((id) => id !== r.id) : [...turned, r.id])}
                >
                  {open ? <ChevronDown size={12} aria-hidden /> : <ChevronRight size={12} aria-hidden />}
                </button>
              ) : (
                <span className="w-[24px] shrink-0" />
              )}
              <Leaf chosen={tree.chosen === r.id} name={titleOf(r)} count={count} onChoose={() => tree.onChoose(r.id)} />
            </div>
            {open && count.below ? <Branches {...tree} rows={rows} parent={r.id} depth={depth + 1} /> : null}
          </li>
        );
      })}
      {more > 0 && (
        <li style={{ paddingLeft: depth * 12 + 24 }}>
          <button type="button" className="link min-h-[24px] cursor-pointer" onClick={() => setMost(Math.min(most * 4, 1000))}>
            {t("console.tree.more", { n: number(more) })}
          </button>
        </li>
      )}
    </ul>
  );
}

function Leaf({ chosen, name, count, onChoose }: { chosen: boolean; name: string; count: Count; onChoose: () => void }) {
  const title = t("console.tree.count", { own: count.own, all: count.all });
  return (
    <button
      type="button"
      aria-pressed={chosen}
      className={clsx(
        "flex min-h-[24px] w-full min-w-0 cursor-pointer items-baseline justify-between gap-2 rounded px-1.5 py-0.5 text-left",
        chosen ? "bg-accent text-accent-ink" : "hover:bg-sunk",
      )}
      onClick={onChoose}
    >
      <span className="truncate">{name}</span>{" "}
      <span className={clsx("shrink-0 text-xs tabular-nums", !chosen && "text-soft")} title={title}>
        {count.own === count.all ? count.all : `${count.own} / ${count.all}`}
      </span>
    </button>
  );
}
