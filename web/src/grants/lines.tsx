import { Fragment } from "react";
import type { Grant, Line } from "../api/records";
import { Name, PointLink, RecordLinks } from "../ui/record-link";
import { number, t } from "../words";

/** GivenTo names those whom a grant, or a mandate, is given to. */
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
          ...(on.points ?? []).map((p) => <PointLink key={p} id={p} />),
        ]}
      />
      {line.depth === "here" && <span className="text-soft"> ({t("console.here")})</span>}
    </>
  );
}

export function When({ line, most }: { line: Line; most?: number }) {
  return line.when?.length ? <RecordLinks type="schedules" ids={line.when} most={most} between={t("console.or")} /> : <>{t("console.grant.always")}</>;
}

export function OnlyIf({ line }: { line: Line }) {
  const { networks, places, states, strong_sign_in, attended } = line.if ?? {};
  const parts = [
    networks?.length && t("condition.networks", { want: networks.join(", ") }),
    places?.length && (
      <>
        {t("console.condition.places")}{" "}
        {places.map((id, i) => (
          <Fragment key={id}>
            {i > 0 && ", "}
            <Name type="sites" id={id} />
          </Fragment>
        ))}
      </>
    ),
    states?.length && t("condition.states", { want: states.map((s) => t(`console.value.${s}`)).join(", ") }),
    strong_sign_in !== undefined && t(`condition.strong_sign_in_${strong_sign_in ? "yes" : "no"}`),
    attended !== undefined && t(`condition.attended_${attended ? "yes" : "no"}`),
  ].filter(Boolean);
  if (parts.length === 0) return <>–</>;
  return parts.map((p, i) => (
    <Fragment key={i}>
      {i > 0 && t("console.and")}
      {p}
    </Fragment>
  ));
}

/** limitsText writes limits: the most of what they name, or the words that it is kept to. */
export const limitsText = (line: Line) =>
  Object.entries(line.limits ?? {})
    .map(([name, v]) =>
      Array.isArray(v) ? t("console.grant.among", { name, list: v.join(", ") }) : t("console.grant.at_most", { name: name.replaceAll("_", " "), n: number(v) }),
    )
    .join("; ");

/** Sentence reads a line as what it is: what, on what, when, only if, and with which limits. */
export function Sentence({ line }: { line: Line }) {
  const limits = limitsText(line);
  return (
    <span className="leading-relaxed">
      <b className="font-semibold">
        <What line={line} most={8} />
      </b>{" "}
      <span className="text-soft">{t("console.grant.on")}</span> <On line={line} most={8} />
      {line.when?.length ? (
        <>
          {", "}
          <span className="text-soft">{t("console.grant.in")}</span> <When line={line} most={8} />
        </>
      ) : (
        <>
          {", "}
          {t("console.grant.always")}
        </>
      )}
      {line.if && (
        <>
          {", "}
          <span className="text-soft">{t("console.grant.if")}</span> <OnlyIf line={line} />
        </>
      )}
      {limits && (
        <>
          {", "}
          {limits}
        </>
      )}
    </span>
  );
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
