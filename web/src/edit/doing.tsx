import type { Edit } from "../api/edits";
import { Footer } from "../ui/modal";
import { Effect } from "./effect";
import { useEdits } from "./use-edits";

/** Doing is the body of a dialog that shows what edits would change, and makes them. */
export function Doing({ edits, label, close }: { edits: Edit[]; label: string; close: () => void }) {
  const { make, busy, fault } = useEdits();
  const go = async () => {
    if (await make(edits)) close();
  };
  return (
    <>
      <Effect edits={edits} />
      <Footer close={close} go={() => void go()} label={label} disabled={busy} fault={fault} />
    </>
  );
}
