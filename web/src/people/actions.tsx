import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { invite, reasonOf } from "../api/client";
import { patched, type Edit } from "../api/edits";
import { mentions, titleOf, type User } from "../api/records";
import { Doing } from "../impact/doing";
import { useMakes, useMay } from "../session/mandates";
import { Combobox } from "../ui/combobox";
import { CheckBox } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Once } from "../ui/once";
import { Name } from "../ui/record-link";
import { TimeField } from "../ui/time-field";
import { t, timeFormat } from "../words";

export function PersonActions({ row }: { row: User }) {
  const may = useMay("users", row.id);
  const makes = useMakes();
  const mayInvite = row.kind !== "service" && row.status !== "suspended" && (may.edit || (makes("users") && row.status === "invited"));
  return (
    <>
      <Link className="button" to={`/people/${row.id}/seen`}>
        {t("console.seen.button")}
      </Link>
      {may.edit && <Suspend user={row} />}
      {mayInvite && <Invite user={row} />}
      {makes("users") && (
        <Modal title={t("console.edit.move_title", { name: titleOf(row) })} button={t("console.edit.move")}>
          {(close) => <Move user={row} close={close} />}
        </Modal>
      )}
    </>
  );
}

/** Suspend suspends, reinstates or lets in, and shows first what that changes. */
function Suspend({ user }: { user: User }) {
  const word = t({ active: "console.edit.suspend", invited: "console.edit.let_in", suspended: "console.edit.reinstate" }[user.status ?? "active"]);
  const edits = [patched("users", user.id, { status: user.status === "active" ? "suspended" : "active" })];
  return (
    <Modal title={`${word}: ${titleOf(user)}`} button={word}>
      {(close) => <Doing edits={edits} label={word} close={close} />}
    </Modal>
  );
}

/** Invite makes a link by which a person sets a password of their own. */
function Invite({ user }: { user: User }) {
  return (
    <Modal title={t("console.invite.title", { name: titleOf(user) })} button={t("console.invite.button")}>
      {(close) => <InviteBody user={user} close={close} />}
    </Modal>
  );
}

function InviteBody({ user, close }: { user: User; close: () => void }) {
  const [made, setMade] = useState<Awaited<ReturnType<typeof invite>>>();
  const [fault, setFault] = useState("");
  const go = async () => {
    setFault("");
    try {
      setMade(await invite(user.id));
    } catch (error) {
      setFault(reasonOf(error, t("console.unreachable")));
    }
  };
  if (!made) {
    return (
      <>
        <p>{t("console.invite.text", { name: titleOf(user) })}</p>
        <Footer close={close} go={() => void go()} label={t("console.invite.make")} fault={fault} />
      </>
    );
  }
  if (!made.link) {
    return (
      <>
        <p>
          {t("console.invite.sent", { email: made.sent ?? "", time: timeFormat({ dateStyle: "full", timeStyle: "short" }).format(new Date(made.expires)) })}
        </p>
        <Footer close={close} go={close} label={t("console.close")} />
      </>
    );
  }
  return (
    <>
      {made.failed && <p className="text-breaks">{t("console.invite.failed", { why: made.failed })}</p>}
      <p>{t("console.invite.made", { name: titleOf(user), time: timeFormat({ dateStyle: "full", timeStyle: "short" }).format(new Date(made.expires)) })}</p>
      <Once label={t("console.invite.link")} value={made.link} close={close} />
    </>
  );
}

/** Move adds a person to a group, and asks about each old one. */
function Move({ user, close }: { user: User; close: () => void }) {
  const [to, setTo] = useState<string>();
  const [until, setUntil] = useState<string>();
  const [dropped, setDropped] = useState<string[]>([]);
  const found = useQuery({ queryKey: ["mentions", "users", user.id], queryFn: () => mentions("users", user.id) });
  const old = [...new Set((found.data ?? []).filter((m) => m.type === "user_groups").map((m) => m.id))];
  const member = { type: "user_groups", list: "members" as const, value: user.id };
  const drops: Edit[] = dropped.map((g) => ({ op: "drop", id: g, ...member }));
  const adds: Edit[] = to ? [{ op: "add", id: to, ...member, until }] : [];
  return (
    <>
      <Combobox label={t("console.edit.move_to")} type="user_groups" value={to} onChange={setTo} />
      <TimeField label={t("console.field.until")} value={until} onChange={setUntil} />
      <fieldset className="flex flex-col gap-1">
        <legend className="mb-1">{t("console.edit.move_keep")}</legend>
        {old.map((g) => (
          <CheckBox
            key={g}
            label={<Name type="user_groups" id={g} />}
            checked={!dropped.includes(g)}
            onChange={(keep) => setDropped(keep ? dropped.filter((x) => x !== g) : [...dropped, g])}
          />
        ))}
        {old.length === 0 && <p className="text-soft">{t("console.edit.no_groups")}</p>}
      </fieldset>
      <Doing edits={[...adds, ...drops]} label={t("console.edit.move")} close={close} />
    </>
  );
}
