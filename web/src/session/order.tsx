import { useQueryClient } from "@tanstack/react-query";
import { signOut, type Session } from "../api/client";
import { base } from "../base";
import { t } from "../words";
import { Password } from "./account";
import { Enrol } from "./factors";
import { EnrolPasskey, hasPasskeys } from "./passkeys";

/** OrderPage leads through what has to be done before anything else: a second factor that is required, a password that is too old. */
export function OrderPage({ session }: { session: Session }) {
  const queries = useQueryClient();
  const factor = session.setup.includes("second_factor");
  return (
    <main className="grid min-h-screen place-items-center px-4 py-6">
      <div className="w-full max-w-md">
        <h1 className="mb-1">{t(factor ? "console.setup.factor" : "console.setup.password")}</h1>
        <p className="mb-4 text-soft">{t(factor ? "console.setup.factor_why" : "console.setup.password_why", { name: session.user.name })}</p>
        {factor ? (
          <>
            {hasPasskeys() && (
              <section className="sheet mb-4 p-5">
                <EnrolPasskey ask={false} done={() => void queries.invalidateQueries()} />
              </section>
            )}
            <section className="sheet p-5">
              <Enrol ask={false} done={() => void queries.invalidateQueries()} />
            </section>
          </>
        ) : (
          <Password done={() => void queries.invalidateQueries()} />
        )}
        <p className="mt-3 flex justify-end">
          <button
            type="button"
            className="button"
            onClick={() => {
              void signOut().then(() => location.assign(base));
            }}
          >
            {t("console.sign_out")}
          </button>
        </p>
      </div>
    </main>
  );
}
