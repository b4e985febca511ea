import { TriangleAlert } from "lucide-react";
import { Link } from "react-router";
import type { Unmet } from "../api/edits";
import { RecordLink } from "../ui/record-link";
import { t } from "../words";

/** UnmetList says loudly which expectations would not hold any more, and why. */
export function UnmetList({ unmet = [], title }: { unmet?: Unmet[]; title?: string }) {
  if (unmet.length === 0) return null;
  return (
    <div className="mb-2 border-l-4 border-l-closes pl-3" data-unmet>
      <p className="flex items-center gap-2 font-semibold text-closes">
        <TriangleAlert size={16} aria-hidden className="shrink-0" />
        {title ?? t("console.expect.would_break", { count: unmet.length })}
      </p>
      <ul className="mt-1 flex flex-col gap-1 text-[0.86rem]">
        {unmet.map((u) => (
          <li key={u.id} className="break-words">
            <Named unmet={u} />
          </li>
        ))}
      </ul>
    </div>
  );
}

/** Needs says that a change needs a second person, and where that is found. */
export function Needs({ approval = [] }: { approval?: string[] }) {
  if (approval.length === 0) return null;
  return (
    <p className="mb-2 border-l-4 border-l-closes pl-3" data-needs>
      <span className="font-semibold text-closes">{t("console.draft.needs")}</span> {approval.map((n) => t(`approval.${n}`)).join(", ")}.{" "}
      <Link className="link" to="/upkeep/drafts">
        {t("console.types.drafts")}
      </Link>
    </p>
  );
}

/** Named is what is said of an expectation, whose name in it leads to it. */
function Named({ unmet: { id, name, text } }: { unmet: Unmet }) {
  const at = text.indexOf(name);
  return (
    <>
      {text.slice(0, at)}
      <RecordLink type="expectations" id={id} name={name} />
      {text.slice(at + name.length)}
    </>
  );
}
