import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { createToken, reasonOf, rotateToken } from "../api/client";
import { Combobox } from "../ui/combobox";
import { TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Once } from "../ui/once";
import { TimeField } from "../ui/time-field";
import { t } from "../words";

/** useSecret makes a token, and has its secret, which is shown this once. */
function useSecret<T>(make: (what: T) => Promise<{ secret?: string }>) {
  const queries = useQueryClient();
  const run = useMutation({ mutationFn: make, onSuccess: () => queries.invalidateQueries({ queryKey: ["sign-ins"] }) });
  return { make: run.mutate, secret: run.data?.secret, busy: run.isPending, fault: run.error ? reasonOf(run.error, t("console.unreachable")) : undefined };
}

/** MakeToken makes a token by which a program comes in as somebody: for as little as it needs. */
export function MakeToken({ user }: { user: string }) {
  return (
    <Modal title={t("console.token.title")} button={t("console.token.make")} className="button px-2 py-0.5 text-[0.86rem]">
      {(close) => <Make user={user} close={close} />}
    </Modal>
  );
}

function Make({ user, close }: { user: string; close: () => void }) {
  const [name, setName] = useState("");
  const [until, setUntil] = useState<string>();
  const [mandate, setMandate] = useState<string>();
  const [networks, setNetworks] = useState("");
  const { make, secret, busy, fault } = useSecret(createToken);
  if (secret) return <Secret secret={secret} close={close} />;
  const list = networks.split(/[\s,]+/).filter(Boolean);
  return (
    <>
      <TextField label={t("console.token.name")} hint={t("console.token.name_hint")} value={name} onChange={setName} />
      <TimeField label={t("console.token.until")} value={until} onChange={setUntil} />
      <Combobox label={t("console.token.mandate")} type="mandates" value={mandate} onChange={setMandate} />
      <TextField label={t("console.token.networks")} hint="10.20.0.0/16" value={networks} onChange={setNetworks} />
      <Footer
        close={close}
        go={() => make({ user, name, until, mandate, networks: list })}
        label={t("console.token.make")}
        disabled={busy || !name.trim()}
        fault={fault}
      />
    </>
  );
}

/** RotateToken makes a token in the place of another, which holds beside it for a day. */
export function RotateToken({ id, name }: { id: string; name: string }) {
  return (
    <Modal
      title={t("console.token.rotate_title", { name })}
      button={t("console.token.rotate")}
      label={`${t("console.token.rotate")}: ${name}`}
      className="button px-2 py-0.5 text-[0.86rem]"
    >
      {(close) => <Rotate id={id} close={close} />}
    </Modal>
  );
}

function Rotate({ id, close }: { id: string; close: () => void }) {
  const { make, secret, busy, fault } = useSecret(rotateToken);
  if (secret) return <Secret secret={secret} close={close} />;
  return (
    <>
      <p>{t("console.token.rotate_help")}</p>
      <Footer close={close} go={() => make(id)} label={t("console.token.rotate")} disabled={busy} fault={fault} />
    </>
  );
}

function Secret({ secret, close }: { secret: string; close: () => void }) {
  return (
    <>
      <p>{t("console.token.once")}</p>
      <Once label={t("console.token.secret")} value={secret} close={close} />
    </>
  );
}
