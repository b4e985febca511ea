import { useQuery } from "@tanstack/react-query";
import clsx from "clsx";
import { ChevronDown, ChevronRight } from "lucide-react";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { counts } from "../api/client";
import { list, titleOf } from "../api/records";
import { t } from "../words";

type Count = { own: number; all: number };
type Branch = { id: string; name?: string; parent?: string };

/** Trees are the sites and the device groups, with their counts; choosing one narrows the table down to it. */
export function Trees() {
  const found = useQuery({ queryKey: ["counts"], queryFn: counts, staleTime: 10_000 });
  const [params, setParams] = useSearchParams();
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
  const found = useQuery({ queryKey: ["options", props.type], queryFn: () => list(props.type, { limit: 1000, sort: "name" }), staleTime: 30_000 });
  return <Branches {...props} rows={found.data?.items ?? []} parent={undefined} depth={0} />;
}

function Branches({ rows, parent, depth, ...tree }: TreeProps & { rows: Branch[]; parent?: string; depth: number }) {
  const [closed, setClosed] = useState<string[]>([]);
  const here = rows.filter((r) => r.parent === parent);
  if (here.length === 0) return null;
  return (
    <ul>
      {here.map((r) => {
        const below = rows.some((x) => x.parent === r.id);
        const open = !closed.includes(r.id);
        return (
          <li key={r.id}>
            <div className="flex items-center" style={{ paddingLeft: depth * 12 }}>
              {below ? (
                <button
                  type="button"
                  className="grid size-[24px] shrink-0 cursor-pointer place-items-center rounded text-soft hover:text-ink"
                  aria-expanded={open}
                  aria-label={t(open ? "console.tree.close" : "console.tree.open", { name: titleOf(r) })}
                  onClick={() => setClosed(open ? [...closed, r.id] : closed.filter((id) => id !== r.id))}
                >
                  {open ? <ChevronDown size={12} aria-hidden /> : <ChevronRight size={12} aria-hidden />}
                </button>
              ) : (
                <span className="w-[24px] shrink-0" />
              )}
              <Leaf chosen={tree.chosen === r.id} name={titleOf(r)} count={tree.counts?.[r.id] ?? { own: 0, all: 0 }} onChoose={() => tree.onChoose(r.id)} />
            </div>
            {open && <Branches {...tree} rows={rows} parent={r.id} depth={depth + 1} />}
          </li>
        );
      })}
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
