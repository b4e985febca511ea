import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { invite, reasonOf } from "../api/client";
import { patched, type Edit } from "../api/edits";
import { groupsOf } from "../api/reach";
import { titleOf, type User } from "../api/records";
import { Doing } from "../impact/doing";
import { useMakes, useMay } from "../session/mandates";
import { Combobox } from "../ui/combobox";
import { CheckBox } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Once } from "../ui/once";
import { TimeField } from "../ui/time-field";
import { t, timeFormat } from "../words";
import { SideBySide } from "./side-by-side";

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

/** Move brings a person into a group and out of the old ones, but those that are kept on purpose; at once, or after a time with both. */
function Move({ user, close }: { user: User; close: () => void }) {
  const [to, setTo] = useState<string>();
  const [until, setUntil] = useState<string>();
  const [handover, setHandover] = useState<string>();
  const [kept, setKept] = useState<string[]>([]);
  const found = useQuery({ queryKey: ["groups", "users", user.id], queryFn: () => groupsOf("users", user.id) });
  const old = (found.data ?? []).filter((b) => b.why === "listed" && b.group.id !== to);
  const groups = new Map(old.map((b) => [b.group.id, b.group.name]));
  const member = { type: "user_groups", list: "members" as const, value: user.id };
  const leaves: Edit[] = old.filter((b) => !kept.includes(b.group.id)).flatMap((b) => leave(b, member, handover));
  const adds: Edit[] = to ? [{ op: "add", id: to, ...member, until }] : [];
  return (
    <>
      <Combobox label={t("console.edit.move_to")} type="user_groups" value={to} onChange={setTo} />
      <TimeField label={t("console.edit.move_until")} value={until} onChange={setUntil} />
      <fieldset className="flex flex-col gap-1">
        <legend className="mb-1">{t("console.edit.move_keep")}</legend>
        {[...groups].map(([id, name]) => (
          <CheckBox key={id} label={name} checked={kept.includes(id)} onChange={(keep) => setKept(keep ? [...kept, id] : kept.filter((x) => x !== id))} />
        ))}
        {groups.size === 0 && <p className="text-soft">{t("console.edit.no_groups")}</p>}
      </fieldset>
      {leaves.length > 0 && <TimeField label={t("console.edit.move_handover")} value={handover} onChange={setHandover} />}
      <SideBySide user={user.id} edits={to ? [...adds, ...leaves] : []} at={handover} />
      <Doing edits={to ? [...adds, ...leaves] : []} label={t("console.edit.move")} close={close} />
    </>
  );
}

type Membership = Awaited<ReturnType<typeof groupsOf>>[number];

/** leave ends a membership: at once, or where there is a handover at the end of it, unless it ends before by itself. */
function leave(b: Membership, member: Omit<Edit, "op" | "id">, handover: string | undefined): Edit[] {
  const one = { id: b.group.id, ...member, from: b.from ?? undefined, beside: true };
  const drop: Edit = { op: "drop", ...one, until: b.until ?? undefined };
  if (!handover || (b.from && Date.parse(b.from) >= Date.parse(handover))) return [drop];
  if (b.until && Date.parse(b.until) <= Date.parse(handover)) return [];
  return [drop, { op: "add", ...one, until: handover }];
}
