import type { Grant } from "../api/client";
import { RecordLink, RecordLinks, useNames } from "../ui/record-link";
import { t } from "../words";

type Line = NonNullable<Grant["lines"]>[number];

/** GivenTo names those that a grant reaches. */
export function GivenTo({ to }: { to: Grant["to"] }) {
  const parts = [
    to?.everyone && <span key="e">{t("console.everyone")}</span>,
    to?.groups?.length ? <RecordLinks key="g" type="user_groups" ids={to.groups} /> : null,
    to?.users?.length ? <RecordLinks key="u" type="users" ids={to.users} /> : null,
  ].filter(Boolean);
  return parts.length > 0 ? (
    parts.map((p, i) => (
      <span key={i}>
        {i > 0 && ", "}
        {p}
      </span>
    ))
  ) : (
    <span className="text-breaks">{t("console.nobody")}</span>
  );
}

export function What({ line, most }: { line: Line; most?: number }) {
  return (
    <Joined
      parts={[
        line.roles?.length && <RecordLinks type="roles" ids={line.roles} most={most} />,
        line.rights?.length && <RecordLinks type="rights" ids={line.rights} most={most} />,
      ]}
      none="console.no_right"
    />
  );
}

export function On({ line, most }: { line: Line; most?: number }) {
  const on = line.on ?? {};
  return (
    <>
      <Joined
        none="console.nowhere"
        parts={[
          on.everything && t("console.everything"),
          on.sites?.length && <RecordLinks type="sites" ids={on.sites} most={most} />,
          on.device_groups?.length && <RecordLinks type="device_groups" ids={on.device_groups} most={most} />,
          on.devices?.length && <RecordLinks type="devices" ids={on.devices} most={most} />,
          on.points?.length &&
            on.points.map((p, i) => (
              <span key={p}>
                {i > 0 && ", "}
                <RecordLink type="devices" id={p.split("/")[0] ?? ""} name={p} />
              </span>
            )),
        ]}
      />
      {line.depth === "here" && <span className="text-soft"> ({t("console.here")})</span>}
    </>
  );
}

export function When({ line, most }: { line: Line; most?: number }) {
  return line.when?.length ? <RecordLinks type="schedules" ids={line.when} most={most} /> : <>{t("console.always")}</>;
}

export function OnlyIf({ line }: { line: Line }) {
  const nameOf = useNames();
  const { networks, places, states, strong_sign_in, attended } = line.if ?? {};
  const parts = [
    networks?.length && t("condition.networks", { want: networks.join(", ") }),
    places?.length && t("condition.places", { want: places.map((id) => nameOf("sites", id)).join(", ") }),
    states?.length && t("condition.states", { want: states.map((s) => t(`console.value.${s}`)).join(", ") }),
    strong_sign_in !== undefined && strong_sign_in !== null && t(`condition.strong_sign_in_${strong_sign_in ? "yes" : "no"}`),
    attended !== undefined && attended !== null && t(`condition.attended_${attended ? "yes" : "no"}`),
  ].filter(Boolean);
  return <>{parts.join(t("console.and")) || "–"}</>;
}

function Joined({ parts, none }: { parts: React.ReactNode[]; none: string }) {
  const shown = parts.filter(Boolean);
  if (shown.length === 0) return <span className="text-breaks">{t(none)}</span>;
  return shown.map((p, i) => (
    <span key={i}>
      {i > 0 && ", "}
      {p}
    </span>
  ));
}
