import { Select } from "radix-ui";
import { Check, ChevronDown } from "lucide-react";
import { useId } from "react";

/** Choose picks one of a few. The empty value stands for no choice, which none names. */
export function Choose({
  label,
  value,
  none,
  options,
  onChange,
  hidden,
}: {
  label: string;
  hidden?: boolean;
  value: string;
  none?: string;
  options: { value: string; label: string; note?: string }[];
  onChange: (value: string) => void;
}) {
  const id = useId();
  const all = none === undefined ? options : [{ value: " ", label: none }, ...options];
  return (
    <div className="flex min-w-0 flex-col gap-1">
      <span id={id} className={hidden ? "sr-only" : "text-xs font-medium text-soft"}>
        {label}
      </span>
      <Select.Root value={value || (none === undefined ? "" : " ")} onValueChange={(v) => onChange(v.trim())}>
        <Select.Trigger aria-labelledby={id} className="field flex cursor-pointer items-center justify-between gap-2 text-left">
          <span className="truncate">
            <Select.Value placeholder="…" />
          </span>
          <Select.Icon>
            <ChevronDown size={14} aria-hidden />
          </Select.Icon>
        </Select.Trigger>
        <Select.Portal>
          <Select.Content
            position="popper"
            sideOffset={4}
            className="z-40 max-h-80 min-w-(--radix-select-trigger-width) overflow-hidden rounded-md border border-line bg-sheet shadow-(--shadow)"
          >
            <Select.Viewport className="py-1">
              {all.map((o) => (
                <Select.Item
                  key={o.value}
                  value={o.value}
                  className="flex cursor-pointer items-center gap-2 px-3 py-1.5 outline-none data-[highlighted]:bg-sunk"
                >
                  <span className="w-4">
                    <Select.ItemIndicator>
                      <Check size={14} aria-hidden />
                    </Select.ItemIndicator>
                  </span>
                  <Select.ItemText>{o.label}</Select.ItemText>
                  {o.note && <span className="text-xs text-soft">{o.note}</span>}
                </Select.Item>
              ))}
            </Select.Viewport>
          </Select.Content>
        </Select.Portal>
      </Select.Root>
    </div>
  );
}
