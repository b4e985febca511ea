import { t } from "../words";
import { Sign } from "./trail";

const signs: Record<string, string> = {
  "in-service": "holds",
  active: "holds",
  on: "holds",
  allow: "holds",
  maintenance: "breaks",
  invited: "beyond",
  retired: "beyond",
  off: "beyond",
  suspended: "closes",
  "locked-out": "closes",
  deny: "closes",
};

/** StateMark shows a state by word, shape and colour. */
export function StateMark({ value }: { value: string }) {
  return (
    <span className="inline-flex items-center gap-1.5">
      <Sign state={signs[value] ?? "beyond"} size={13} />
      {t(`console.value.${value}`)}
    </span>
  );
}
