import { serviceNow } from "../session/clock";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { invite, mentions, reasonOf, ApiError, type Row } from "../api/client";
import { remove, type Edit } from "../api/edits";
import { ChangeList } from "../edit/changes";
import { Effect } from "../edit/effect";
import { ImpactView } from "../edit/impact";
import { Doing } from "../edit/doing";
import { useEdits } from "../edit/use-edits";
import { Chips, TextInput } from "../edit/inputs";
import { Picker } from "../ui/picker";
import { Footer, Modal } from "../ui/modal";
import { recordPath, useNames } from "../ui/record-link";
import { useToast } from "../ui/toast";
import { t, timeFormat } from "../words";

/** Actions are the buttons of a record's page: what people do with it. */
export function Actions({ type, row }: { type: string; row: Row }) {
  return (
    <div className="ml-auto flex flex-wrap gap-2">
      <Ask type={type} id={row.id} />
      {type === "users" && (
        <Link className="button" to={`/people/${row.id}/seen`}>
          {t("console.seen.button")}
        </Link>
      )}
      <Give type={type} id={row.id} />
      {type === "users" && <Suspend row={row} />}
      {type === "users" && row.kind !== "service" && row.status !== "suspended" && <Invite row={row} />}
      {type === "users" && <Move row={row} />}
      {type === "devices" && <LockOut row={row} />}
      <Link className="button" to={`${recordPath(type, row.id)}/edit`}>
        {t("console.edit.edit")}
      </Link>
      <Copy type={type} row={row} />
      <Remove type={type} row={row} />
    </div>
  );
}

function Ask({ type, id }: { type: string; id: string }) {
  const part = type === "users" ? "user" : type === "devices" ? "device" : type === "rights" ? "right" : "";
  if (!part) return null;
  return (
    <Link className="button" to={`/check?${part}=${encodeURIComponent(id)}`}>
      {t("console.check.about")}
    </Link>
  );
}

/** Give begins a grant of, or to, the record. */
function Give({ type, id }: { type: string; id: string }) {
  const to: Record<string, object> = { users: { users: [id] }, user_groups: { groups: [id] } };
  const on: Record<string, object> = { devices: { devices: [id] }, device_groups: { device_groups: [id] }, sites: { sites: [id] } };
  const fields = type in to ? { to: to[type] } : type in on ? { lines: [{ on: on[type] }] } : undefined;
  if (!fields) return null;
  return (
    <Link className="button" to={`/records/grants/new?with=${encodeURIComponent(JSON.stringify(fields))}`}>
      {t("console.edit.give")}
    </Link>
  );
}

/** Suspend suspends, reinstates or lets in, and shows first what that changes. */
function Suspend({ row }: { row: Row }) {
  const suspended = row.status !== "active";
  const word = t(row.status === "invited" ? "console.edit.let_in" : suspended ? "console.edit.reinstate" : "console.edit.suspend");
  const edits: Edit[] = [{ op: "patch", type: "users", id: row.id, record: { status: suspended ? "active" : "suspended" } as never }];
  return (
    <Modal title={`${word}: ${row.name ?? row.id}`} button={word}>
      {(close) => <Doing edits={edits} label={word} close={close} />}
    </Modal>
  );
}

/** Invite makes a link by which a person sets a password of their own. */
function Invite({ row }: { row: Row }) {
  return (
    <Modal title={t("console.invite.title", { name: row.name ?? row.id })} button={t("console.invite.button")}>
      {(close) => <InviteBody row={row} close={close} />}
    </Modal>
  );
}

function InviteBody({ row, close }: { row: Row; close: () => void }) {
  const [made, setMade] = useState<{ link: string; expires: string }>();
  const [fault, setFault] = useState("");
  const go = async () => {
    setFault("");
    try {
      setMade(await invite(row.id));
    } catch (error) {
      setFault(reasonOf(error, t("console.unreachable")));
    }
  };
  if (!made) {
    return (
      <>
        <p>{t("console.invite.text", { name: row.name ?? row.id })}</p>
        <Footer close={close} go={() => void go()} label={t("console.invite.make")} fault={fault} />
      </>
    );
  }
  return (
    <>
      <p>
        {t("console.invite.made", { name: row.name ?? row.id, time: timeFormat({ dateStyle: "full", timeStyle: "short" }).format(new Date(made.expires)) })}
      </p>
      <label className="flex flex-col gap-1">
        <span className="text-xs font-medium text-soft">{t("console.invite.link")}</span>
        <input className="field font-mono text-[0.86rem]" readOnly value={made.link} onFocus={(e) => e.target.select()} />
      </label>
      <Footer close={close} go={() => void navigator.clipboard.writeText(made.link)} label={t("console.invite.copy")} />
    </>
  );
}

/** Remove shows what will be lost before its button can be pressed. */
function Remove({ type, row }: { type: string; row: Row }) {
  return (
    <Modal title={t("console.edit.remove_title", { name: row.name ?? row.id })} button={t("console.edit.remove")}>
      {(close) => <RemoveBody type={type} row={row} close={close} />}
    </Modal>
  );
}

function RemoveBody({ type, row, close }: { type: string; row: Row; close: () => void }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const toast = useToast();
  const [fault, setFault] = useState("");
  const [accept, setAccept] = useState(false);
  const look = useQuery({
    queryKey: ["remove", type, row.id, accept],
    queryFn: () => remove(type, row.id, true, true, accept),
    staleTime: 0,
    gcTime: 0,
    retry: false,
  });
  const gains = look.error instanceof ApiError ? look.error.problem?.gains : undefined;
  const go = async () => {
    try {
      const saved = await remove(type, row.id, true, false, accept);
      close();
      toast(saved);
      void navigate(-1);
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "record" });
    } catch (error) {
      setFault(reasonOf(error, t("console.edit.not_saved")));
    }
  };
  const others = (look.data?.changes.length ?? 1) - 1;
  return (
    <>
      {look.data && <p>{t(others > 0 ? "console.edit.remove_along" : "console.edit.remove_alone", { n: others })}</p>}
      {look.error && <p role="alert">{look.error.message}</p>}
      {gains && gains.gained.all > 0 && <ImpactView impact={gains} />}
      {(gains || accept) && (
        <label className="flex items-center gap-2">
          <input type="checkbox" className="size-4 accent-(--accent)" checked={accept} onChange={(e) => setAccept(e.target.checked)} />
          {t("console.edit.accept_gains")}
        </label>
      )}
      {look.data?.impact && <ImpactView impact={look.data.impact} />}
      {look.data && <ChangeList changes={look.data.changes} none="" />}
      <Footer close={close} go={() => void go()} label={t("console.edit.remove")} disabled={!look.data} fault={fault} />
    </>
  );
}

function Copy({ type, row }: { type: string; row: Row }) {
  return (
    <Modal title={t("console.edit.copy_title", { name: row.name ?? row.id })} button={t("console.edit.copy")}>
      {(close) => <CopyBody type={type} row={row} close={close} />}
    </Modal>
  );
}

const alongOf: Record<string, string[]> = { users: ["groups", "grants"], user_groups: ["members", "grants"] };

function CopyBody({ type, row, close }: { type: string; row: Row; close: () => void }) {
  const navigate = useNavigate();
  const { make, fault } = useEdits();
  const [name, setName] = useState("");
  const [along, setAlong] = useState<string[]>(alongOf[type]?.slice(0, 1) ?? []);
  const edits: Edit[] = [{ op: "copy", type, id: row.id, name: name.trim(), with: along }];
  const go = async () => {
    const saved = await make(edits);
    const made = saved?.changes.find((c) => c.op === "added");
    if (!made) return;
    close();
    void navigate(recordPath(type, made.id));
  };
  return (
    <>
      <TextInput label={t("console.field.name")} value={name} onChange={(v) => setName(String(v))} />
      {alongOf[type]?.map((w) => (
        <label key={w} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="size-4 accent-(--accent)"
            checked={along.includes(w)}
            onChange={(e) => setAlong(e.target.checked ? [...along, w] : along.filter((x) => x !== w))}
          />
          {t(`console.edit.with_${w}`)}
        </label>
      ))}
      <Effect edits={name.trim() ? edits : []} />
      <Footer close={close} go={() => void go()} label={t("console.edit.copy")} disabled={!name.trim()} fault={fault} />
    </>
  );
}

/** Move adds a person to a group, and asks about each old one. */
function Move({ row }: { row: Row }) {
  return (
    <Modal title={t("console.edit.move_title", { name: row.name ?? row.id })} button={t("console.edit.move")}>
      {(close) => <MoveBody row={row} close={close} />}
    </Modal>
  );
}

function MoveBody({ row, close }: { row: Row; close: () => void }) {
  const nameOf = useNames();
  const { make, fault } = useEdits();
  const [to, setTo] = useState("");
  const [until, setUntil] = useState("");
  const [kept, setKept] = useState<string[]>();
  const found = useQuery({ queryKey: ["mentions", "users", row.id], queryFn: () => mentions("users", row.id) });
  const old = [...new Set((found.data ?? []).filter((m) => m.type === "user_groups").map((m) => m.id))];
  const keep = kept ?? old;
  const member = { type: "user_groups", list: "members" as const, value: row.id };
  const drops: Edit[] = old.filter((g) => !keep.includes(g)).map((g) => ({ op: "drop", id: g, ...member }));
  const adds: Edit[] = to ? [{ op: "add", id: to, ...member, until: until || undefined }] : [];
  const go = async () => {
    if (await make([...adds, ...drops])) close();
  };
  return (
    <>
      <Picker label={t("console.edit.move_to")} type="user_groups" value={to} onChange={setTo} />
      <TextInput label={t("console.field.until")} hint="2026-12-01T17:00:00Z" value={until} onChange={(v) => setUntil(String(v))} />
      <fieldset className="flex flex-col gap-1.5">
        <legend className="mb-1">{t("console.edit.move_keep")}</legend>
        {old.map((g) => (
          <label key={g} className="flex items-center gap-2">
            <input
              type="checkbox"
              className="size-4 accent-(--accent)"
              checked={keep.includes(g)}
              onChange={(e) => setKept(e.target.checked ? [...keep, g] : keep.filter((x) => x !== g))}
            />
            {nameOf("user_groups", g)}
          </label>
        ))}
        {old.length === 0 && <p className="text-soft">{t("console.edit.no_groups")}</p>}
      </fieldset>
      <Chips ids={old.filter((g) => !keep.includes(g))} shown={(g) => `− ${nameOf("user_groups", g)}`} onDrop={(g) => setKept([...keep, g])} />
      <Effect edits={[...adds, ...drops]} />
      <Footer close={close} go={() => void go()} label={t("console.edit.move")} disabled={!to && keep.length === old.length} fault={fault} />
    </>
  );
}

function LockOut({ row }: { row: Row }) {
  if (row.lockout) {
    const release: Edit[] = [{ op: "patch", type: "devices", id: row.id, record: { lockout: null } as never }];
    return (
      <Modal title={`${t("console.edit.release")}: ${row.name ?? row.id}`} button={t("console.edit.release")}>
        {(close) => <Doing edits={release} label={t("console.edit.release")} close={close} />}
      </Modal>
    );
  }
  return (
    <Modal title={t("console.edit.lock_title", { name: row.name ?? row.id })} button={t("console.edit.lock")}>
      {(close) => <LockBody row={row} close={close} />}
    </Modal>
  );
}

function LockBody({ row, close }: { row: Row; close: () => void }) {
  const { make, fault } = useEdits();
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const [from] = useState(() => serviceNow().toISOString());
  const edits: Edit[] = [{ op: "patch", type: "devices", id: row.id, record: { lockout: { reason, until: until || undefined, from } } as never }];
  const go = async () => {
    if (await make(edits)) close();
  };
  return (
    <>
      <p>{t("console.edit.lock_text")}</p>
      <TextInput label={t("console.field.reason")} value={reason} onChange={(v) => setReason(String(v))} />
      <TextInput label={t("console.field.until")} hint="2026-12-01T17:00:00Z" value={until} onChange={(v) => setUntil(String(v))} />
      <Effect edits={reason.trim() ? edits : []} />
      <Footer close={close} go={() => void go()} label={t("console.edit.lock")} disabled={!reason.trim()} fault={fault} />
    </>
  );
}
