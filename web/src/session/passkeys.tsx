import { useState, type FormEvent } from "react";
import { beginPasskey, beginPasskeySignIn, confirmPasskey, reasonOf, signInByPasskey, type Ceremony } from "../api/client";
import { TextField } from "../ui/fields";
import { Fault } from "../ui/notice";
import { t } from "../words";
import { Codes } from "./codes";
import { PasswordField } from "./password-fields";

// Passkeys belong to a name, and not to an address.
const hasName = () => !/^[\d.]+$|:/.test(location.hostname);

/** hasPasskeys tells whether this browser can make passkeys, and sign by them, at this address. */
export const hasPasskeys = () => hasName() && window.isSecureContext && "PublicKeyCredential" in window && "parseRequestOptionsFromJSON" in PublicKeyCredential;

/** make has the browser make a passkey; undefined where it did not. */
async function make(options: string): Promise<string | undefined> {
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(JSON.parse(options) as PublicKeyCredentialCreationOptionsJSON);
  return written(navigator.credentials.create({ publicKey }));
}

/** sign has a passkey sign; undefined where none did. */
async function sign({ options }: Ceremony): Promise<string | undefined> {
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(JSON.parse(options) as PublicKeyCredentialRequestOptionsJSON);
  return written(navigator.credentials.get({ publicKey }));
}

async function written(asked: Promise<Credential | null>) {
  try {
    const credential = await asked;
    return credential ? JSON.stringify((credential as PublicKeyCredential).toJSON()) : undefined;
  } catch (error) {
    if (error instanceof DOMException) return undefined; // called off, or not possible
    throw error;
  }
}

/** enterByPasskey signs in; the error says why not. */
export async function enterByPasskey() {
  const ceremony = await beginPasskeySignIn();
  const credential = await sign(ceremony);
  if (!credential) throw new Error(t("console.passkey.not_signed"));
  await signInByPasskey(ceremony.id, credential);
}

/** EnrolPasskey makes a passkey on this device, or on a security key. */
export function EnrolPasskey({ ask, done }: { ask: boolean; done: () => void }) {
  const [password, setPassword] = useState("");
  const [name, setName] = useState("");
  const [codes, setCodes] = useState<string[]>();
  const [fault, setFault] = useState("");
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setFault("");
    try {
      const ceremony = await beginPasskey(ask ? password : undefined);
      const credential = await make(ceremony.options);
      if (!credential) {
        setFault(t("console.passkey.failed"));
        return;
      }
      const made = await confirmPasskey(ceremony.id, name, credential);
      if (made.codes?.length) setCodes(made.codes);
      else done();
    } catch (error) {
      setFault(reasonOf(error, t("console.unreachable")));
    }
  };
  if (codes) return <Codes codes={codes} done={done} />;
  return (
    <form onSubmit={(e) => void submit(e)} className="flex flex-col gap-3">
      <p>{t("console.passkey.help")}</p>
      {ask && <PasswordField label={t("console.account.current")} name="current" value={password} onChange={setPassword} current />}
      <TextField label={t("console.factor.name")} hint={t("console.factor.name_hint")} value={name} onChange={setName} />
      <Fault text={fault} />
      <button type="submit" className="button primary self-end" disabled={!name.trim() || (ask && !password)}>
        {t("console.passkey.make")}
      </button>
    </form>
  );
}
