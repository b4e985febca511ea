import type { Impact } from "../api/reach";
import { RecordLink } from "../ui/record-link";
import { number, say } from "../words";

/** ImpactView says who would gain and lose what by a change, now. */
export function ImpactView({ impact }: { impact: Impact }) {
  if (impact.gained + impact.lost === 0) return <p className="mt-1 text-soft">{say("console.impact.none")}</p>;
  return (
    <div className="mt-1" data-impact>
      <p className="tabular-nums">
        <span className="font-semibold text-holds">+{number(impact.gained)}</span> {say("console.impact.gained")}{" "}
        <span className="font-semibold text-closes">−{number(impact.lost)}</span> {say("console.impact.lost")}
        <span className="text-soft"> {say("console.impact.of", { users: number(impact.users), devices: number(impact.devices) })}</span>
      </p>
      <ul className="mt-1 text-[0.86rem]">
        {impact.items.slice(0, 8).map((d) => (
          <li key={`${d.user.id} ${d.device.id}`} className="break-words">
            <RecordLink type="users" id={d.user.id} name={d.user.name} /> · <RecordLink type="devices" id={d.device.id} name={d.device.name} />:{" "}
            {d.gained?.map((r) => (
              <span key={r} className="mr-1 text-holds">
                +{r}
              </span>
            ))}
            {d.lost?.map((r) => (
              <span key={r} className="mr-1 text-closes">
                −{r}
              </span>
            ))}
          </li>
        ))}
      </ul>
    </div>
  );
}
