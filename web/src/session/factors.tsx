import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { beginFactor, confirmFactor, dropFactor, factors, newRecoveryCodes, reasonOf, type Enrolling } from "../api/client";
import { TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Busy, Fault, Trouble } from "../ui/notice";
import { t, timeFormat } from "../words";
import { Codes } from "./codes";
import { EnrolPasskey, hasPasskeys } from "./passkeys";
import { PasswordField } from "./password-fields";

/** Factors are one's own second factors: what proves who one is beside the password. */
export function Factors() {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["factors"], queryFn: factors });
  const refresh = () => void queries.invalidateQueries();
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return (
    <section className="sheet p-5">
      <h2 className="mb-1">{t("console.factor.title")}</h2>
      <p className="mb-3 text-soft">{t("console.factor.help")}</p>
      <ul className="mb-3">
        {found.data.map((f) => (
          <li key={f.id} className="flex items-center gap-3 border-t border-line/60 py-1.5">
            <span className="min-w-0 flex-1">
              {f.name}{" "}
              <span className="text-soft">
                {t(`console.passkey.kind_${f.kind}`)}, {t("console.factor.since", { time: timeFormat({ dateStyle: "medium" }).format(new Date(f.created)) })}
              </span>
            </span>
            <Modal title={t("console.factor.drop_title", { name: f.name })} button={t("console.factor.drop")}>
              {(close) => <Proved go={t("console.factor.drop")} close={close} act={(password) => dropFactor(f.id, password)} done={refresh} />}
            </Modal>
          </li>
        ))}
      </ul>
      {found.data.length === 0 && <p className="mb-3 text-soft">{t("console.factor.none")}</p>}
      <div className="flex flex-wrap gap-2">
        {hasPasskeys() && (
          <Modal title={t("console.passkey.add")} button={t("console.passkey.add")}>
            {(close) => (
              <EnrolPasskey
                ask
                done={() => {
                  close();
                  refresh();
                }}
              />
            )}
          </Modal>
        )}
        <Modal title={t("console.factor.add")} button={t("console.factor.add")}>
          {(close) => (
            <Enrol
              ask
              done={() => {
                close();
                refresh();
              }}
            />
          )}
        </Modal>
        {found.data.length > 0 && (
          <Modal title={t("console.factor.codes_new")} button={t("console.factor.codes_new")}>
            {(close) => <FreshCodes close={close} />}
          </Modal>
        )}
      </div>
    </section>
  );
}

/** Proved does something once the password was typed again. */
function Proved({ go, close, act, done }: { go: string; close: () => void; act: (password: string) => Promise<unknown>; done: () => void }) {
  const [password, setPassword] = useState("");
  const [fault, setFault] = useState("");
  const run = async () => {
    setFault("");
    try {
      await act(password);
      close();
      done();
    } catch (error) {
      setFault(reasonOf(error, t("console.unreachable")));
    }
  };
  return (
    <>
      <PasswordField label={t("console.account.current")} name="current" value={password} onChange={setPassword} current />
      <Footer close={close} go={() => void run()} label={go} disabled={!password} fault={fault} />
    </>
  );
}

function FreshCodes({ close }: { close: () => void }) {
  const [codes, setCodes] = useState<string[]>();
  if (codes) return <Codes codes={codes} done={close} />;
  return (
    <Proved
      go={t("console.factor.codes_go")}
      close={() => undefined}
      act={async (password) => setCodes((await newRecoveryCodes(password)).codes)}
      done={() => undefined}
    />
  );
}

/** Enrol sets up a second factor: begins, shows what the program for codes has to be told, and takes a code of it. */
export function Enrol({ ask, done }: { ask: boolean; done: () => void }) {
  const [password, setPassword] = useState("");
  const [begun, setBegun] = useState<Enrolling>();
  const [name, setName] = useState("");
  const [code, setCode] = useState("");
  const [codes, setCodes] = useState<string[]>();
  const [fault, setFault] = useState("");
  const attempt = async (act: () => Promise<void>) => {
    setFault("");
    try {
      await act();
    } catch (error) {
      setFault(reasonOf(error, t("console.unreachable")));
    }
  };
  const begin = () => attempt(async () => setBegun(await beginFactor(ask ? password : undefined)));
  const confirm = () =>
    attempt(async () => {
      const made = await confirmFactor(code, name);
      if (made.codes?.length) setCodes(made.codes);
      else done();
    });
  if (codes) return <Codes codes={codes} done={done} />;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    void (begun ? confirm() : begin());
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-3">
      {!begun && <p>{t("console.factor.begin_help")}</p>}
      {!begun && ask && <PasswordField label={t("console.account.current")} name="current" value={password} onChange={setPassword} current />}
      {begun && (
        <>
          <p>{t("console.factor.scan")}</p>
          <Drawn rows={begun.drawn} label={t("console.factor.drawn")} />
          <p className="text-center font-mono text-[0.86rem] break-all select-all">{begun.secret.match(/.{1,4}/g)?.join(" ")}</p>
          <TextField label={t("console.factor.name")} hint={t("console.factor.name_hint")} value={name} onChange={setName} />
          <CodeField value={code} onChange={setCode} />
        </>
      )}
      <Fault text={fault} />
      <button type="submit" className="button primary self-end" disabled={begun ? !name.trim() || !code : ask && !password}>
        {t(begun ? "console.factor.confirm" : "console.factor.begin")}
      </button>
    </form>
  );
}

/** CodeField takes a code as it is shown, or a recovery code. */
export function CodeField({ value, onChange, focus }: { value: string; onChange: (v: string) => void; focus?: boolean }) {
  return (
    <label className="flex flex-col gap-1">
      <span className="font-medium">{t("console.factor.code")}</span>
      <input
        className="field font-mono"
        name="code"
        inputMode="numeric"
        autoComplete="one-time-code"
        autoFocus={focus}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
    </label>
  );
}

/** Drawn is a code for a camera, dark on white in every look. */
function Drawn({ rows, label }: { rows: string[]; label: string }) {
  const n = rows.length;
  const dark = rows.flatMap((row, y) => [...row].map((c, x) => (c === "1" ? `M${String(x)} ${String(y)}h1v1h-1z` : ""))).join("");
  return (
    <svg viewBox={`-4 -4 ${String(n + 8)} ${String(n + 8)}`} role="img" aria-label={label} className="mx-auto w-52" shapeRendering="crispEdges">
      <rect x="-4" y="-4" width={n + 8} height={n + 8} fill="#fff" />
      <path d={dark} fill="#000" />
    </svg>
  );
}
