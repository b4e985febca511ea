import { X } from "lucide-react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import type { Edit } from "../api/edits";
import { membershipOf, titleOf, type Membership, type UserGroup } from "../api/records";
import { useOrigins } from "../api/sources";
import { Doing } from "../impact/doing";
import { Effect } from "../impact/effect";
import { useDoing } from "../impact/use-edits";
import { serviceNow } from "../session/clock";
import { useMakes, useMay } from "../session/mandates";
import { Combobox } from "../ui/combobox";
import { TextField } from "../ui/fields";
import { Modal } from "../ui/modal";
import { nameOf, useName } from "../ui/names";
import { madeOf } from "../ui/form/ids";
import { Fault } from "../ui/notice";
import { ReadingArea } from "../ui/reading";
import { recordPath, RecordLink } from "../ui/record-link";
import { local } from "../ui/time";
import { TimeField, useZone } from "../ui/time-field";
import { t } from "../words";

const shown = 60;

/** Members are the people of a group with their ends; each is added and dropped by itself, so that two who work on one group do not collide. */
export function Members({ group }: { group: UserGroup }) {
  const [word, setWord] = useState("");
  const may = useMay("user_groups", group.id);
  const makes = useMakes();
  const brought = useOrigins("user_groups", group.id).flatMap((o) => o.members ?? []);
  const members = (group.members ?? []).map(membershipOf);
  const found = members.filter((m) => m.user.includes(word.trim().toLowerCase()));
  return (
    <section className="sheet">
      <h2 className="flex justify-between border-b border-line px-4 py-2.5">
        {t("console.field.members")} <span className="font-normal text-soft tabular-nums">{members.length}</span>
      </h2>
      {may.patch && (
        <ReadingArea>
          <AddMember group={group.id} />
          {makes("users") && <InviteInto group={group} />}
        </ReadingArea>
      )}
      {members.length > 20 && (
        <div className="w-64 px-4 pt-2">
          <TextField label={t("console.search")} value={word} onChange={setWord} />
        </div>
      )}
      <ul className="grid gap-x-6 px-4 py-3 sm:grid-cols-2">
        {found.slice(0, shown).map((m) => (
          <Member
            key={`${m.user} ${m.from ?? ""} ${m.until ?? ""}`}
            mayDrop={may.patch && (Boolean(m.from ?? m.until) || !brought.includes(m.user))}
            group={group.id}
            member={m}
          />
        ))}
      </ul>
      {members.length === 0 && <p className="px-4 pb-3 text-soft">{t("console.members.none")}</p>}
      {found.length > shown && <p className="px-4 pb-3 text-soft">{t("console.members.more", { n: found.length - shown })}</p>}
    </section>
  );
}

/** InviteInto adds somebody who is not known yet, as invited, and at once to the group; the link is made on their page. */
function InviteInto({ group }: { group: UserGroup }) {
  const title = t("console.members.invite_title", { group: titleOf(group) });
  return (
    <div className="border-b border-line/60 px-4 py-2">
      <Modal title={title} button={t("console.members.invite")} className="link min-h-[24px] cursor-pointer text-[0.86rem]">
        {(close) => <InviteForm group={group.id} close={close} />}
      </Modal>
    </div>
  );
}

/** freeUser is an id that no user has yet. */
async function freeUser(wanted: string) {
  let id = wanted;
  for (let n = 2; (await nameOf("users", id)) !== null; n++) id = `${wanted}-${String(n)}`;
  return id;
}

function InviteForm({ group, close }: { group: string; close: () => void }) {
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [email, setEmail] = useState("");
  const [until, setUntil] = useState<string>();
  const wanted = madeOf(name.trim());
  const id = useQuery({ queryKey: ["free", wanted], queryFn: () => freeUser(wanted), enabled: name.trim() !== "" }).data;
  const edits: Edit[] =
    name.trim() && id
      ? [
          { op: "put", type: "users", id, record: { id, name: name.trim(), email: email.trim() || undefined, status: "invited" } },
          { op: "add", type: "user_groups", id: group, list: "members", value: id, until },
        ]
      : [];
  return (
    <>
      <TextField label={t("console.field.name")} value={name} onChange={setName} />
      <TextField label={t("console.field.email")} value={email} onChange={setEmail} />
      <TimeField label={t("console.field.until")} value={until} onChange={setUntil} />
      <Doing edits={edits} label={t("console.members.invite_go")} close={close} done={() => void navigate(recordPath("users", id ?? wanted))} />
    </>
  );
}

function AddMember({ group }: { group: string }) {
  const [user, setUser] = useState<string>();
  const [until, setUntil] = useState<string>();
  const edits: Edit[] = user ? [{ op: "add", type: "user_groups", id: group, list: "members", value: user, until }] : [];
  const { go, reason, needed, busy, fault } = useDoing(edits, () => {
    setUser(undefined);
    setUntil(undefined);
  });
  return (
    <div className="flex flex-wrap items-start gap-3 border-b border-line/60 px-4 py-3">
      <div className="w-56">
        <Combobox label={t("console.members.add")} type="users" value={user} onChange={setUser} />
      </div>
      <div className="w-64">
        <TimeField label={t("console.field.until")} value={until} onChange={setUntil} />
      </div>
      {(user || needed) && <div className="w-56">{reason}</div>}
      <button type="button" className="button mt-5" disabled={!user || busy} onClick={go}>
        {t("console.edit.add")}
      </button>
      <Effect edits={edits} />
      <Fault text={fault} className="basis-full" />
    </div>
  );
}

function Member({ group, member: m, mayDrop }: { group: string; member: Membership; mayDrop: boolean }) {
  const zone = useZone({});
  const title = t("console.members.drop", { user: useName("users", m.user) ?? m.user });
  const at = (instant: string) => `${local(instant, zone)} ${zone}`;
  const drop: Edit = { op: "drop", type: "user_groups", id: group, list: "members", value: m.user };
  return (
    <li className="flex items-center gap-2 py-0.5">
      <span className="min-w-0 flex-1 truncate">
        <RecordLink type="users" id={m.user} />
        {m.from && <span className="text-soft"> {t("console.members.from", { time: at(m.from) })}</span>}
        {m.until && (
          <span className={new Date(m.until) < serviceNow() ? "text-breaks" : "text-soft"}> {t("console.members.until", { time: at(m.until) })}</span>
        )}
      </span>
      {mayDrop && (
        <Modal
          title={title}
          label={title}
          button={<X size={14} aria-hidden />}
          className="flex size-[24px] cursor-pointer items-center justify-center rounded hover:bg-sunk"
        >
          {(close) => <Doing edits={[drop]} label={t("console.edit.take_out_now")} close={close} />}
        </Modal>
      )}
    </li>
  );
}
