import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { holdersOf, type Held as OfDevice } from "../api/reach";
import { recordPath } from "../ui/record-link";
import { number, t } from "../words";

type Right = OfDevice["rights"][number];

/** The rights that every policy has, of which each row tells; the others are behind one number. */
const always = ["control", "view"];

const explained = ({ name, totals }: Right) =>
  t("console.held.help", { right: name, now: number(totals.now), later: number(totals.later), if: number(totals.if) });

/** Held tells how many have which right on a device: now, later or under a condition. */
export function Held({ device }: { device: string }) {
  const found = useQuery({ queryKey: ["holders", device], queryFn: async () => (await holdersOf(device)) ?? null, staleTime: 30_000 });
  if (found.isPending) return null;
  if (found.isError) return <span className="text-soft">{t("console.held.unknown")}</span>;
  const held = found.data?.rights ?? [];
  if (held.length === 0) return <span className="text-soft">{t("console.held.nobody")}</span>;
  const page = recordPath("devices", device);
  const others = held.filter((r) => !always.includes(r.id));
  return (
    <span className="flex gap-3 tabular-nums">
      {always.map((id) => {
        const r = held.find((x) => x.id === id);
        return (
          r && (
            <Link key={id} className="link" to={`${page}?right=${id}`} title={explained(r)}>
              {r.name} {number(r.totals.now + r.totals.later + r.totals.if)}
            </Link>
          )
        );
      })}
      {others.length > 0 && (
        <Link className="link text-soft" to={page} title={others.map(explained).join("\n")} aria-label={t("console.held.others", { count: others.length })}>
          +{number(others.length)}
        </Link>
      )}
    </span>
  );
}
