import { Lock } from "lucide-react";
import { Link } from "react-router";
import { useOrigins, type Origins } from "../api/sources";
import { ofBefore } from "../session/as-of";
import { labelOf, number, t } from "../words";

/** OriginNote says of a record from which source it comes, and what of it is changed there. */
export function OriginNote({ type, id }: { type: Origins; id: string }) {
  const origins = useOrigins(type, id);
  if (ofBefore) return null; // of now: nobody changes what was
  return origins.map((o) => {
    const name = o.source.name;
    const what = o.fields.map((f) => (labelOf(f) ?? f).toLowerCase()).join(", ");
    return (
      <p key={o.source.id + o.fields.join()} className="mb-2 flex flex-wrap items-baseline gap-x-2 text-[0.86rem]" data-origin>
        <Lock size={13} aria-hidden className="self-center" />
        <Link className="link" to={`/sources/${encodeURIComponent(o.source.id)}`} title={o.place}>
          {t("console.source.from", { name })}
        </Link>
        <span className="text-soft">
          {o.gone
            ? t("console.source.gone_there")
            : o.members
              ? t("console.source.member_from", { n: number(o.members.length), name })
              : t("console.source.from_help", { name, what })}
        </span>
      </p>
    );
  });
}
