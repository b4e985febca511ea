import { useState } from "react";
import { patched } from "../api/edits";
import { titleOf, type Device } from "../api/records";
import { Doing } from "../impact/doing";
import { serviceNow } from "../session/clock";
import { useMay } from "../session/mandates";
import { TextField } from "../ui/fields";
import { Modal } from "../ui/modal";
import { TimeField } from "../ui/time-field";
import { t } from "../words";

/** DeviceActions lock a device out, or release it; both say first what they change. */
export function DeviceActions({ row }: { row: Device }) {
  const may = useMay("devices", row.id);
  if (!may.edit) return null;
  if (row.lockout) {
    const word = t("console.edit.release");
    return (
      <Modal title={`${word}: ${titleOf(row)}`} button={word}>
        {(close) => <Doing edits={[patched("devices", row.id, { lockout: null })]} label={word} close={close} />}
      </Modal>
    );
  }
  return (
    <Modal title={t("console.edit.lock_title", { name: titleOf(row) })} button={t("console.edit.lock")}>
      {(close) => <LockOut device={row.id} close={close} />}
    </Modal>
  );
}

function LockOut({ device, close }: { device: string; close: () => void }) {
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState<string>();
  const [from] = useState(() => serviceNow().toISOString());
  const edits = reason.trim() ? [patched("devices", device, { lockout: { reason, until, from } })] : [];
  return (
    <>
      <p>{t("console.edit.lock_text")}</p>
      <TextField label={t("console.field.reason")} value={reason} onChange={setReason} />
      <TimeField label={t("console.field.until")} value={until} onChange={setUntil} by={{ device }} />
      <Doing edits={edits} label={t("console.edit.lock")} close={close} />
    </>
  );
}
