import { serviceNow } from "../session/clock";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { invite, mentions, reasonOf, Refused, type Row } from "../api/client";
import { remove, type Edit } from "../api/edits";
import { ChangeList } from "../edit/changes";
import { ImpactView } from "../edit/impact";
import { useChange } from "../edit/use-change";
import { Chips, TextInput } from "../edit/inputs";
import { Picker } from "../ui/picker";
import { recordPath, useNames } from "../ui/record-link";
import { useToast } from "../ui/toast";
import { say, timeFormat } from "../words";
import { Fault } from "../ui/notice";

/** Actions are the buttons of a record's page: what people do with it. */
export function Actions({ type, row }: { type: string; row: Row }) {
  return (
    <div className="ml-auto flex flex-wrap gap-2">
      <Ask type={type} id={row.id} />
      {type === "users" && (
        <Link className="button" to={`/people/${row.id}/seen`}>
          {say("console.seen.button")}
        </Link>
      )}
      <Give type={type} id={row.id} />
      {type === "users" && <Suspend row={row} />}
      {type === "users" && row.kind !== "service" && row.status !== "suspended" && <Invite row={row} />}
      {type === "users" && <Move row={row} />}
      {type === "devices" && <LockOut row={row} />}
      <Link className="button" to={`${recordPath(type, row.id)}/edit`}>
        {say("console.edit.edit")}
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
      {say("console.check.about")}
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
      {say("console.edit.give")}
    </Link>
  );
}

function Suspend({ row }: { row: Row }) {
  const { make } = useChange();
  const suspended = row.status !== "active";
  const status = suspended ? "active" : "suspended";
  return (
    <button type="button" className="button" onClick={() => void make([{ op: "patch", type: "users", id: row.id, record: { status } as never }])}>
      {say(row.status === "invited" ? "console.edit.let_in" : suspended ? "console.edit.reinstate" : "console.edit.suspend")}
    </button>
  );
}

/** Invite makes a link by which a person sets a password of their own. */
function Invite({ row }: { row: Row }) {
  return (
    <Modal title={say("console.invite.title", { name: row.name ?? row.id })} button={say("console.invite.button")}>
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
      setFault(reasonOf(error, say("console.unreachable")));
    }
  };
  if (!made) {
    return (
      <>
        <p>{say("console.invite.text", { name: row.name ?? row.id })}</p>
        <Footer close={close} go={() => void go()} label={say("console.invite.make")} fault={fault} />
      </>
    );
  }
  return (
    <>
      <p>
        {say("console.invite.made", { name: row.name ?? row.id, time: timeFormat({ dateStyle: "full", timeStyle: "short" }).format(new Date(made.expires)) })}
      </p>
      <label className="flex flex-col gap-1">
        <span className="text-xs font-medium text-soft">{say("console.invite.link")}</span>
        <input className="field font-mono text-[0.86rem]" readOnly value={made.link} onFocus={(e) => e.target.select()} />
      </label>
      <Footer close={close} go={() => void navigator.clipboard.writeText(made.link)} label={say("console.invite.copy")} />
    </>
  );
}

function Modal({ title, button, children }: { title: string; button: string; children: (close: () => void) => ReactNode }) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <button type="button" className="button">
          {button}
        </button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="sheet fixed top-[12vh] left-1/2 z-50 flex max-h-[76vh] w-[min(92vw,34rem)] -translate-x-1/2 flex-col gap-4 overflow-auto p-6"
        >
          <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
          {open && children(() => setOpen(false))}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Footer({ close, go, label, disabled, fault }: { close: () => void; go: () => void; label: string; disabled?: boolean; fault?: string }) {
  return (
    <>
      <Fault text={fault} />
      <div className="flex justify-end gap-2">
        <button type="button" className="button" onClick={close}>
          {say("console.edit.cancel")}
        </button>
        <button type="button" className="button primary" disabled={disabled} onClick={go}>
          {label}
        </button>
      </div>
    </>
  );
}

/** Remove shows what will be lost before its button can be pressed. */
function Remove({ type, row }: { type: string; row: Row }) {
  return (
    <Modal title={say("console.edit.remove_title", { name: row.name ?? row.id })} button={say("console.edit.remove")}>
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
  const gains = look.error instanceof Refused ? look.error.problem?.gains : undefined;
  const go = async () => {
    try {
      const saved = await remove(type, row.id, true, false, accept);
      close();
      toast(saved);
      void navigate(-1);
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "record" });
    } catch (error) {
      setFault(reasonOf(error, say("console.edit.not_saved")));
    }
  };
  const others = (look.data?.changes.length ?? 1) - 1;
  return (
    <>
      {look.data && <p>{say(others > 0 ? "console.edit.remove_along" : "console.edit.remove_alone", { n: others })}</p>}
      {look.error && <p role="alert">{look.error.message}</p>}
      {gains && gains.gained.all > 0 && <ImpactView impact={gains} />}
      {(gains || accept) && (
        <label className="flex items-center gap-2">
          <input type="checkbox" className="size-4 accent-(--accent)" checked={accept} onChange={(e) => setAccept(e.target.checked)} />
          {say("console.edit.accept_gains")}
        </label>
      )}
      {look.data && <ChangeList changes={look.data.changes} none="" />}
      <Footer close={close} go={() => void go()} label={say("console.edit.remove")} disabled={!look.data} fault={fault} />
    </>
  );
}

function Copy({ type, row }: { type: string; row: Row }) {
  return (
    <Modal title={say("console.edit.copy_title", { name: row.name ?? row.id })} button={say("console.edit.copy")}>
      {(close) => <CopyBody type={type} row={row} close={close} />}
    </Modal>
  );
}

const alongOf: Record<string, string[]> = { users: ["groups", "grants"], user_groups: ["members", "grants"] };

function CopyBody({ type, row, close }: { type: string; row: Row; close: () => void }) {
  const navigate = useNavigate();
  const { make, fault } = useChange();
  const [name, setName] = useState("");
  const [along, setAlong] = useState<string[]>(alongOf[type]?.slice(0, 1) ?? []);
  const go = async () => {
    const saved = await make([{ op: "copy", type, id: row.id, name, with: along }]);
    const made = saved?.changes.find((c) => c.op === "added");
    if (!made) return;
    close();
    void navigate(recordPath(type, made.id));
  };
  return (
    <>
      <TextInput label={say("console.field.name")} value={name} onChange={(v) => setName(String(v))} />
      {alongOf[type]?.map((w) => (
        <label key={w} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="size-4 accent-(--accent)"
            checked={along.includes(w)}
            onChange={(e) => setAlong(e.target.checked ? [...along, w] : along.filter((x) => x !== w))}
          />
          {say(`console.edit.with_${w}`)}
        </label>
      ))}
      <Footer close={close} go={() => void go()} label={say("console.edit.copy")} disabled={!name.trim()} fault={fault} />
    </>
  );
}

/** Move adds a person to a group, and asks about each old one. */
function Move({ row }: { row: Row }) {
  return (
    <Modal title={say("console.edit.move_title", { name: row.name ?? row.id })} button={say("console.edit.move")}>
      {(close) => <MoveBody row={row} close={close} />}
    </Modal>
  );
}

function MoveBody({ row, close }: { row: Row; close: () => void }) {
  const nameOf = useNames();
  const { make, fault } = useChange();
  const [to, setTo] = useState("");
  const [until, setUntil] = useState("");
  const [kept, setKept] = useState<string[]>();
  const found = useQuery({ queryKey: ["mentions", "users", row.id], queryFn: () => mentions("users", row.id) });
  const old = [...new Set((found.data ?? []).filter((m) => m.type === "user_groups").map((m) => m.id))];
  const keep = kept ?? old;
  const go = async () => {
    const member = { type: "user_groups", list: "members" as const, value: row.id };
    const drops: Edit[] = old.filter((g) => !keep.includes(g)).map((g) => ({ op: "drop", id: g, ...member }));
    const adds: Edit[] = to ? [{ op: "add", id: to, ...member, until: until || undefined }] : [];
    if (await make([...adds, ...drops])) close();
  };
  return (
    <>
      <Picker label={say("console.edit.move_to")} type="user_groups" value={to} onChange={setTo} />
      <TextInput label={say("console.field.until")} hint="2026-12-01T17:00:00Z" value={until} onChange={(v) => setUntil(String(v))} />
      <fieldset className="flex flex-col gap-1.5">
        <legend className="mb-1">{say("console.edit.move_keep")}</legend>
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
        {old.length === 0 && <p className="text-soft">{say("console.edit.no_groups")}</p>}
      </fieldset>
      <Chips ids={old.filter((g) => !keep.includes(g))} shown={(g) => `− ${nameOf("user_groups", g)}`} onDrop={(g) => setKept([...keep, g])} />
      <Footer close={close} go={() => void go()} label={say("console.edit.move")} disabled={!to && keep.length === old.length} fault={fault} />
    </>
  );
}

function LockOut({ row }: { row: Row }) {
  const { make } = useChange();
  if (row.lockout) {
    return (
      <button type="button" className="button" onClick={() => void make([{ op: "patch", type: "devices", id: row.id, record: { lockout: null } as never }])}>
        {say("console.edit.release")}
      </button>
    );
  }
  return (
    <Modal title={say("console.edit.lock_title", { name: row.name ?? row.id })} button={say("console.edit.lock")}>
      {(close) => <LockBody row={row} close={close} />}
    </Modal>
  );
}

function LockBody({ row, close }: { row: Row; close: () => void }) {
  const { make, fault } = useChange();
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const go = async () => {
    const lockout = { reason, until: until || undefined, from: serviceNow().toISOString() };
    if (await make([{ op: "patch", type: "devices", id: row.id, record: { lockout } as never }])) close();
  };
  return (
    <>
      <p>{say("console.edit.lock_text")}</p>
      <TextInput label={say("console.field.reason")} value={reason} onChange={(v) => setReason(String(v))} />
      <TextInput label={say("console.field.until")} hint="2026-12-01T17:00:00Z" value={until} onChange={(v) => setUntil(String(v))} />
      <Footer close={close} go={() => void go()} label={say("console.edit.lock")} disabled={!reason.trim()} fault={fault} />
    </>
  );
}
