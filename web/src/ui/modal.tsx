import { Dialog } from "radix-ui";
import { useState, type ReactNode } from "react";
import { t } from "../words";
import { Fault } from "./notice";
import { ReadingArea } from "./reading";

const body = "sheet fixed top-[8vh] left-1/2 z-50 flex max-h-[84vh] w-[min(92vw,34rem)] -translate-x-1/2 flex-col gap-3 overflow-auto px-6 pt-5";

export function Modal({
  title,
  button,
  label,
  className = "button",
  children,
}: {
  title: string;
  button: ReactNode;
  label?: string;
  className?: string;
  children: (close: () => void) => ReactNode;
}) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <button type="button" className={className} aria-label={label}>
          {button}
        </button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content aria-describedby={undefined} className={body}>
          <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
          {open && <ReadingArea>{children(() => setOpen(false))}</ReadingArea>}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** Question asks once more before something is done. */
export function Question({ title, open, close, children }: { title: string; open: boolean; close: () => void; children: ReactNode }) {
  return (
    <Dialog.Root open={open} onOpenChange={(on) => !on && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content aria-describedby={undefined} className={body}>
          <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

export function Footer({
  close,
  cancel = t("console.edit.cancel"),
  go,
  label,
  disabled,
  fault,
}: {
  close: () => void;
  cancel?: string;
  go: () => void;
  label: string;
  disabled?: boolean;
  fault?: string;
}) {
  return (
    <>
      <Fault text={fault} />
      <div className="sticky bottom-0 -mx-6 flex justify-end gap-2 border-t border-line bg-sheet px-6 py-3">
        <button type="button" className="button" onClick={close}>
          {cancel}
        </button>
        <button type="button" className="button primary" disabled={disabled} onClick={go}>
          {label}
        </button>
      </div>
    </>
  );
}
