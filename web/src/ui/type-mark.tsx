import { Boxes, Cpu, MapPin, Plug, User, Users, type LucideIcon } from "lucide-react";
import { t } from "../words";

const icons: Record<string, LucideIcon> = { users: User, user_groups: Users, devices: Cpu, device_groups: Boxes, sites: MapPin, points: Plug };

/** TypeMark tells of which type something is, where several are listed together. */
export function TypeMark({ type }: { type: string }) {
  const Icon = icons[type];
  const word = t(`console.type.${type}`);
  return (
    <span title={word} className="inline-flex shrink-0 self-center text-soft">
      {Icon && <Icon size={14} aria-hidden />}
      <span className="sr-only">{word}</span>
    </span>
  );
}
