import { Lock } from "lucide-react";
import { Link } from "react-router";
import { useOriginMark, useOrigins, type Origins } from "../api/sources";
import { useSession } from "../session/mandates";
import { ofBefore } from "../session/as-of";
import { labelOf, number, t } from "../words";

/** OriginMark is a lock beside the name of a record that a source keeps, wherever it stands in a list. */
export function OriginMark({ type, id }: { type: string; id: string }) {
  const origin = useOriginMark(type, id, (useSession()?.sourced ?? false) && !ofBefore);
  if (!origin) return null;
  const text = origin.gone ? t("console.source.gone_from", { name: origin.source.name }) : t("console.source.from", { name: origin.source.name });
  return (
    <span className="ml-1.5 text-soft" title={text}>
      <Lock size={12} aria-hidden className="inline" />
      <span className="sr-only">{text}</span>
    </span>
  );
}

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
