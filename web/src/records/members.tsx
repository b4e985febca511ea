import { serviceNow } from "../session/clock";
import { X } from "lucide-react";
import { useState } from "react";
import type { Row } from "../api/client";
import { TextInput } from "../edit/inputs";
import type { Edit } from "../api/edits";
import { Doing } from "../edit/doing";
import { Effect } from "../edit/effect";
import { useEdits } from "../edit/use-edits";
import { Modal } from "../ui/modal";
import { Picker } from "../ui/picker";
import { RecordLink } from "../ui/record-link";
import { local } from "../ui/time";
import { t } from "../words";
import { Fault } from "../ui/notice";

type Member = string | { user: string; from?: string; until?: string };

const shown = 60;

/** Members are the people of a group with their ends; each is added and dropped by itself, so that two who work on one group do not collide. */
export function Members({ group }: { group: Row }) {
  const { make, fault } = useEdits();
  const [word, setWord] = useState("");
  const [user, setUser] = useState("");
  const [until, setUntil] = useState("");
  const members = ((group.members as Member[] | undefined) ?? []).map((m) => (typeof m === "string" ? { user: m } : m));
  const found = members.filter((m) => m.user.includes(word.trim().toLowerCase()));
  const entry = { type: "user_groups", id: group.id, list: "members" as const };
  const edits: Edit[] = user ? [{ op: "add", ...entry, value: user, until: until.trim() || undefined }] : [];
  const add = async () => {
    if (await make(edits)) {
      setUser("");
      setUntil("");
    }
  };
  return (
    <section className="sheet" data-members>
      <div className="flex flex-wrap items-end gap-3 border-b border-line px-4 py-2.5">
        <h2 className="mr-auto self-center">
          {t("console.field.members")} <span className="font-normal text-soft tabular-nums">{members.length}</span>
        </h2>
        <div className="w-52">
          <Picker label={t("console.members.add")} type="users" value={user} onChange={setUser} />
        </div>
        <div className="w-48">
          <TextInput label={t("console.field.until")} hint="2026-12-01T17:00:00Z" value={until} onChange={(v) => setUntil(String(v))} />
        </div>
        <button type="button" className="button" disabled={!user} onClick={() => void add()}>
          {t("console.edit.add")}
        </button>
        <Effect edits={edits} />
      </div>
      <Fault text={fault} className="mx-4 my-2" />
      {members.length > 20 && (
        <div className="w-64 px-4 pt-2">
          <TextInput label={t("console.search")} value={word} onChange={(v) => setWord(String(v))} />
        </div>
      )}
      <ul className="grid gap-x-6 px-4 py-3 sm:grid-cols-2">
        {found.slice(0, shown).map((m) => (
          <li key={`${m.user} ${m.from ?? ""} ${m.until ?? ""}`} className="flex items-center gap-2 py-0.5">
            <span className="min-w-0 flex-1 truncate">
              <RecordLink type="users" id={m.user} />
              {m.from && <span className="text-soft"> {t("console.members.from", { time: `${local(m.from, "UTC")} UTC` })}</span>}
              {m.until && (
                <span className={new Date(m.until) < serviceNow() ? "text-breaks" : "text-soft"}>
                  {" "}
                  {t("console.members.until", { time: `${local(m.until, "UTC")} UTC` })}
                </span>
              )}
            </span>
            <Modal
              title={t("console.members.drop", { user: m.user })}
              label={t("console.members.drop", { user: m.user })}
              button={<X size={14} aria-hidden />}
              className="flex size-[24px] cursor-pointer items-center justify-center rounded hover:bg-sunk"
            >
              {(close) => <Doing edits={[{ op: "drop", ...entry, value: m.user }]} label={t("console.edit.take_out_now")} close={close} />}
            </Modal>
          </li>
        ))}
      </ul>
      {members.length === 0 && <p className="px-4 pb-3 text-soft">{t("console.members.none")}</p>}
      {found.length > shown && <p className="px-4 pb-3 text-soft">{t("console.members.more", { n: found.length - shown })}</p>}
    </section>
  );
}
