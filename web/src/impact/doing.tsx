import type { Edit, Saved } from "../api/edits";
import { Footer } from "../ui/modal";
import { Effect } from "./effect";
import { useDoing } from "./use-edits";

/** Doing is the foot of a dialog: it shows what the edits would change, and makes them. With none there is nothing to do yet. */
export function Doing({
  edits,
  label,
  close,
  done,
  changes,
}: {
  edits: Edit[];
  label: string;
  close: () => void;
  done?: (saved: Saved) => void;
  /** changes says that the records which change are told too. */
  changes?: boolean;
}) {
  const { go, reason, busy, fault } = useDoing(edits, (saved) => {
    close();
    done?.(saved);
  });
  return (
    <>
      <Effect edits={edits} changes={changes} />
      {reason}
      <Footer close={close} go={go} label={label} disabled={busy || edits.length === 0} fault={fault} />
    </>
  );
}
