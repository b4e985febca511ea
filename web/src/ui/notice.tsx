import type { ReactNode } from "react";
import { Link } from "react-router";
import { t } from "../words";

export function Busy() {
  return (
    <p role="status" className="p-6 text-soft">
      {t("console.busy")}
    </p>
  );
}

export function Trouble({ error }: { error: Error }) {
  return (
    <div role="alert" className="sheet m-2 border-l-4 border-l-breaks p-4 whitespace-pre-line">
      {error.message}
    </div>
  );
}

/** NotYours stands in the place of a page that is for others, and leads to what is one's own. */
export function NotYours({ children }: { children: ReactNode }) {
  return (
    <div className="sheet m-2 p-4">
      <p>{children}</p>
      <p className="mt-2">
        <Link className="link" to="/mine">
          {t("console.place.mine")}
        </Link>
      </p>
    </div>
  );
}

/** Fault says beside a control why what was asked was not done; without a text there is none. */
export function Fault({ text, className = "" }: { text: string | undefined; className?: string }) {
  if (!text) return null;
  return (
    <p role="alert" className={`border-l-4 border-breaks pl-3 whitespace-pre-line ${className}`}>
      {text}
    </p>
  );
}

/** Empty says what belongs here. */
export function Empty({ children }: { children: ReactNode }) {
  return <p className="px-4 py-8 text-center text-soft">{children}</p>;
}
