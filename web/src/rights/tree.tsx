import { useQuery } from "@tanstack/react-query";
import { list, titleOf, type Right } from "../api/records";
import { Busy } from "../ui/notice";
import { t } from "../words";

/** useRights are all rights, by name. */
export function useRights() {
  const found = useQuery({ queryKey: ["rights"], queryFn: () => list("rights", { limit: 1000, sort: "name" }), staleTime: 30_000 });
  return found.data?.items;
}

/** impliedBy lists what rights imply, over any number of steps, themselves left out. */
export function impliedBy(rights: Right[], ids: string[]): string[] {
  const byId = new Map(rights.map((r) => [r.id, r]));
  const seen = new Set<string>();
  const todo = [...ids];
  for (let id = todo.pop(); id !== undefined; id = todo.pop()) {
    for (const i of byId.get(id)?.implies ?? []) {
      if (seen.has(i)) continue;
      seen.add(i);
      todo.push(i);
    }
  }
  return [...seen];
}

/** meaningOf says what a right is for, as far as anybody has said it. */
export const meaningOf = (r: Right) => r.note ?? (r.id === "view" || r.id === "control" ? t(`console.levels.${r.id}`) : "");

/** RightsTree marks rights, each below those that imply it, with its meaning beside it: all of it, some of what it implies, or none. */
export function RightsTree({ label, value, onChange }: { label: string; value: string[]; onChange: (ids: string[]) => void }) {
  const rights = useRights();
  if (!rights) return <Busy />;
  const below = new Set(rights.flatMap((r) => r.implies ?? []));
  const along = new Set(impliedBy(rights, value));
  return (
    <fieldset>
      <legend className="mb-1 text-xs font-medium text-soft">{label}</legend>
      <ul className="flex flex-col">
        {rights
          .filter((r) => !below.has(r.id))
          .map((r) => (
            <Node key={r.id} right={r} rights={rights} value={value} along={along} onChange={onChange} depth={0} />
          ))}
      </ul>
    </fieldset>
  );
}

type NodeProps = { right: Right; rights: Right[]; value: string[]; along: Set<string>; onChange: (ids: string[]) => void; depth: number };

function Node({ right, depth, ...tree }: NodeProps) {
  const { rights, value, along, onChange } = tree;
  const comes = along.has(right.id);
  const all = comes || value.includes(right.id);
  const some = !all && impliedBy(rights, [right.id]).some((id) => along.has(id) || value.includes(id));
  return (
    <li>
      <label className="grid cursor-pointer grid-cols-[auto_minmax(6rem,auto)_1fr] items-baseline gap-2 py-0.5" style={{ paddingLeft: depth * 20 }}>
        <input
          type="checkbox"
          className="size-4 self-center accent-(--accent)"
          checked={all}
          disabled={comes}
          ref={(box) => {
            if (box) box.indeterminate = some;
          }}
          onChange={(e) => onChange(e.target.checked ? [...value, right.id] : value.filter((id) => id !== right.id))}
        />
        <span className={all ? "font-semibold" : undefined}>{titleOf(right)}</span>
        <span className="text-[0.86rem] text-soft">{comes ? t("console.rights.comes") : meaningOf(right)}</span>
      </label>
      {right.implies?.length ? (
        <ul>
          {rights
            .filter((r) => right.implies?.includes(r.id))
            .map((r) => (
              <Node key={r.id} {...tree} right={r} depth={depth + 1} />
            ))}
        </ul>
      ) : null}
    </li>
  );
}
