import { Fragment } from "react";
import { titleOf, type Right } from "../api/records";
import { Name, RecordLink } from "../ui/record-link";
import { t } from "../words";
import { impliedBy, useRights } from "./tree";

/** levels puts each right one level above the highest that it implies. */
function levels(rights: Right[]) {
  const byId = new Map(rights.map((r) => [r.id, r]));
  const depth = new Map<string, number>();
  const of = (id: string): number => {
    const known = depth.get(id);
    if (known !== undefined) return known;
    const implies = byId.get(id)?.implies ?? [];
    const d = implies.length === 0 ? 0 : 1 + Math.max(...implies.map(of));
    depth.set(id, d);
    return d;
  };
  const out: Right[][] = [];
  for (const r of rights) (out[of(r.id)] ??= []).push(r);
  return out;
}

/** Levels draws rights by what they imply, each with its meaning in words. */
export function Levels() {
  const rights = useRights() ?? [];
  const nameOf = (id: string) => titleOf(rights.find((r) => r.id === id) ?? { id });
  return (
    <section className="sheet mb-4 px-4 py-3" aria-label={t("console.levels.title")}>
      <h2>{t("console.levels.title")}</h2>
      <p className="mb-3 max-w-[80ch] text-[0.86rem] text-soft">{t("console.levels.help")}</p>
      <div className="flex gap-3 overflow-x-auto pb-1">
        {levels(rights).map((level, i) => (
          <ol key={i} className="flex min-w-56 flex-1 flex-col gap-2" data-level={i}>
            {level.map((r) => {
              const implied = impliedBy(rights, [r.id]).map(nameOf);
              const kinds = r.kinds ?? [];
              return (
                <li key={r.id} className="rounded-md border border-line bg-sunk/40 px-3 py-2" style={{ borderLeft: `${3 + 3 * i}px solid var(--accent)` }}>
                  <div className="font-semibold">
                    <RecordLink type="rights" id={r.id} name={r.name} />
                  </div>
                  <p className="text-[0.86rem] leading-snug text-soft">
                    {(r.id === "view" || r.id === "control") && <>{t(`console.levels.${r.id}`)} </>}
                    {implied.length > 0 && <>{t("console.levels.implies", { rights: implied.join(", ") })} </>}
                    {kinds.length > 0 && (
                      <>
                        {t("console.levels.kinds")}
                        {kinds.map((k, n) => (
                          <Fragment key={k}>
                            {n > 0 && ", "}
                            <Name type="kinds" id={k} />
                          </Fragment>
                        ))}
                        .
                      </>
                    )}
                  </p>
                </li>
              );
            })}
          </ol>
        ))}
      </div>
    </section>
  );
}
