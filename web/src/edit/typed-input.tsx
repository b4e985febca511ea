import { useState } from "react";
import type { Value } from "./fields";

type Props = {
  label: string;
  hint?: string;
  value: Value;
  shown: (v: Value) => string;
  read: (text: string) => Value;
  onChange: (v: Value) => void;
};

/** TypedInput is a text that stands for something else. What is typed stays as typed until the field is left, and is read all the while. */
export function TypedInput({ label, hint, value, shown, read, onChange }: Props) {
  const [typed, setTyped] = useState<string>();
  return (
    <label className="flex flex-col gap-1">
      <span className="text-xs font-medium text-soft">{label}</span>
      <input
        className="field"
        value={typed ?? shown(value)}
        placeholder={hint}
        onChange={(e) => {
          setTyped(e.target.value);
          onChange(read(e.target.value));
        }}
        onBlur={() => setTyped(undefined)}
      />
    </label>
  );
}
