import { useState } from "react";
import { useMakes } from "../session/mandates";
import { Link } from "react-router";
import type { Edit } from "../api/edits";
import type { Line } from "../api/records";
import { AllRights, What, WhenField, WhereField, Who, type To, type Where } from "../grants/choices";
import { Doing } from "../impact/doing";
import { Modal } from "../ui/modal";
import { TimeField } from "../ui/time-field";
import { t } from "../words";

/** Side is where somebody stands who gives access: with people, or with devices. What is missing is asked for. */
type Side = { name: string; to?: To; on?: Where };

/** AccessButtons give access, and take it back in the same way. */
export function AccessButtons({ side, done }: { side: Side; done?: () => void }) {
  const makes = useMakes();
  if (!makes("grants")) return null;
  return (["give", "take"] as const).map((op) => (
    <Modal key={op} title={t(`console.access.${op}_title`, { name: side.name })} button={t(`console.access.${op}`)}>
      {(close) => <AccessForm op={op} side={side} close={close} done={done} />}
    </Modal>
  ));
}

function AccessForm({ op, side, close, done }: { op: "give" | "take"; side: Side; close: () => void; done?: () => void }) {
  const [to, setTo] = useState<To>(side.to ?? {});
  const [line, setLine] = useState<Line>({ on: side.on ?? {} });
  const [until, setUntil] = useState<string>();
  const whom = to.everyone || to.groups?.length || to.users?.length;
  const what = line.roles?.length || line.rights?.length;
  const where = line.on?.everything || line.on?.sites?.length || line.on?.device_groups?.length || line.on?.devices?.length || line.on?.points?.length;
  const edits: Edit[] = whom && what && where ? [{ op, type: "grants", id: "", access: { to, line, valid: until ? { until } : undefined } }] : [];
  return (
    <>
      {!side.to && <Who to={to} onChange={setTo} />}
      <What line={line} onChange={setLine} />
      <AllRights line={line} onChange={setLine} />
      {!side.on && <WhereField line={line} onChange={setLine} />}
      <WhenField line={line} onChange={setLine} />
      <TimeField label={t("console.field.until")} value={until} onChange={setUntil} />
      {op === "give" && (
        <p className="text-[0.86rem] text-soft">
          {t("console.access.more")}{" "}
          <Link className="link" to={`/records/grants/new?with=${encodeURIComponent(JSON.stringify({ to, lines: [line] }))}`}>
            {t("console.access.whole")}
          </Link>
        </p>
      )}
      <Doing edits={edits} label={t(`console.access.${op}`)} close={close} done={done} changes />
    </>
  );
}
