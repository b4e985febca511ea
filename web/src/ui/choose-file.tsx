import type { ReactNode } from "react";

/** ChooseFile is a button by which a file is chosen; the same one can be chosen again, once it has been mended. */
export function ChooseFile({ accept, choose, children }: { accept: string; choose: (file: File | undefined) => void; children: ReactNode }) {
  return (
    <label className="button cursor-pointer focus-within:outline-2">
      {children}
      <input type="file" accept={accept} className="sr-only" onClick={(e) => (e.currentTarget.value = "")} onChange={(e) => choose(e.target.files?.[0])} />
    </label>
  );
}
